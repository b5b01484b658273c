//! Asks a database over one connection, and waits for each answer no longer than a deadline.
//!
//! A database that is gone does not say so: a proxy keeps the way to it open, or a machine in between swallows what it sends. So each
//! call has a deadline of this program's own, and a connection that missed one is not used again.

use std::fmt;
use std::time::Duration;

use tokio::runtime::{Builder, Runtime};
use tokio::time::timeout;
use tokio_postgres::error::SqlState;
use tokio_postgres::tls::{MakeTlsConnect, TlsConnect};
use tokio_postgres::types::ToSql;
use tokio_postgres::{Config, Row, Socket, Statement};

/// Describes why a call has no answer that can be used.
#[derive(Debug)]
pub(crate) enum ClientError {
    /// Says what the database said, or the way to it.
    Said(tokio_postgres::Error),
    /// It has said nothing for this time.
    Silent(Duration),
    /// The connection could not be begun on this machine.
    Here(std::io::Error),
}

impl ClientError {
    pub(crate) fn code(&self) -> Option<&SqlState> {
        match self {
            ClientError::Said(error) => error.code(),
            ClientError::Silent(_) | ClientError::Here(_) => None,
        }
    }

    /// Returns whether a row was locked by somebody for longer than is waited.
    pub(crate) fn is_locked(&self) -> bool {
        self.code() == Some(&SqlState::LOCK_NOT_AVAILABLE)
    }
}

impl From<tokio_postgres::Error> for ClientError {
    fn from(error: tokio_postgres::Error) -> ClientError {
        ClientError::Said(error)
    }
}

impl fmt::Display for ClientError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ClientError::Said(error) => error.fmt(f),
            ClientError::Silent(waited) => write!(f, "no answer within {} ms", waited.as_millis()),
            ClientError::Here(error) => error.fmt(f),
        }
    }
}

pub(crate) type Answered<T> = Result<T, ClientError>;

/// One connection. What it does, it does on the thread that calls.
pub(crate) struct Client {
    runtime: Runtime,
    client: tokio_postgres::Client,
    /// For how long an answer is waited for.
    pub deadline: Duration,
    /// Whether an answer was given up: it may come yet, and would be taken for that of another question.
    silent: bool,
}

impl Client {
    pub(crate) fn connect<T>(config: &Config, tls: T, deadline: Duration) -> Answered<Client>
    where
        T: MakeTlsConnect<Socket>,
        T::Stream: Send + 'static,
        T::TlsConnect: Send,
        <T::TlsConnect as TlsConnect<Socket>>::Future: Send,
    {
        let runtime = Builder::new_current_thread().enable_all().build().map_err(ClientError::Here)?;
        let connected = runtime.block_on(async { timeout(deadline, config.connect(tls)).await });
        let (client, connection) = connected.map_err(|_| ClientError::Silent(deadline))??;
        // It ends with the client, and what went wrong the client is told.
        drop(runtime.spawn(async move { drop(connection.await) }));
        Ok(Client { runtime, client, deadline, silent: false })
    }

    /// Returns whether nothing more can be asked.
    pub(crate) fn is_over(&self) -> bool {
        self.silent || self.client.is_closed()
    }

    pub(crate) fn prepare(&mut self, sql: &str) -> Answered<Statement> {
        let (client, deadline) = (&self.client, self.deadline);
        let answer = self.runtime.block_on(async { timeout(deadline, client.prepare(sql)).await });
        self.answered(answer)
    }

    pub(crate) fn query(&mut self, statement: &Statement, parameters: &[&(dyn ToSql + Sync)]) -> Answered<Vec<Row>> {
        let (client, deadline) = (&self.client, self.deadline);
        let answer = self.runtime.block_on(async { timeout(deadline, client.query(statement, parameters)).await });
        self.answered(answer)
    }

    /// Runs a statement that is asked once.
    pub(crate) fn query_once(&mut self, sql: &str, parameters: &[&(dyn ToSql + Sync)]) -> Answered<Vec<Row>> {
        let (client, deadline) = (&self.client, self.deadline);
        let answer = self.runtime.block_on(async { timeout(deadline, client.query(sql, parameters)).await });
        self.answered(answer)
    }

    /// Runs a statement, and returns how many rows it changed.
    pub(crate) fn execute(&mut self, statement: &Statement, parameters: &[&(dyn ToSql + Sync)]) -> Answered<u64> {
        let (client, deadline) = (&self.client, self.deadline);
        let answer = self.runtime.block_on(async { timeout(deadline, client.execute(statement, parameters)).await });
        self.answered(answer)
    }

    /// Runs several statements that stand in one text.
    pub(crate) fn batch(&mut self, sql: &str) -> Answered<()> {
        let (client, deadline) = (&self.client, self.deadline);
        let answer = self.runtime.block_on(async { timeout(deadline, client.batch_execute(sql)).await });
        self.answered(answer)
    }

    fn answered<T, E>(&mut self, answer: Result<Result<T, tokio_postgres::Error>, E>) -> Answered<T> {
        match answer {
            Ok(answer) => Ok(answer?),
            Err(_) => {
                self.silent = true;
                Err(ClientError::Silent(self.deadline))
            }
        }
    }
}
