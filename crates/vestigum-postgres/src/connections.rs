//! Connections, and trying again.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use postgres::types::ToSql;
use postgres::{Client, Row, Statement, ToStatement, Transaction};
use r2d2::{ManageConnection, NopErrorHandler, Pool};
use thiserror::Error;

use vestigum::{RemoteTrouble, StoreError};

use crate::lock;
use crate::trouble::Trouble;

/// The first pause before something is tried again; it doubles each time.
const FIRST_PAUSE: Duration = Duration::from_millis(5);
const LONGEST_PAUSE: Duration = Duration::from_millis(500);

#[derive(Clone, Copy, Debug)]
pub(crate) struct Limits {
    pub connections: u32,
    pub patience: Duration,
    pub statement_timeout: Duration,
}

pub(crate) type Connect = Box<dyn Fn() -> Result<Client, postgres::Error> + Send + Sync>;

/// The connections of a store.
pub(crate) struct Connections {
    pool: Pool<Manager>,
    /// Why the last connection could not be made.
    last: Arc<Mutex<Option<Trouble>>>,
    pub place: String,
    pub schema: String,
    patience: Duration,
}

struct Manager {
    connect: Connect,
    last: Arc<Mutex<Option<Trouble>>>,
    /// What each connection is told first.
    set_up: String,
}

/// One connection, and the statements that are prepared on it.
pub(crate) struct Connection {
    client: Client,
    statements: HashMap<&'static str, Statement>,
}

/// The pool only needs to know that it did not work.
#[derive(Debug, Error)]
#[error("{0}")]
pub(crate) struct NotConnected(String);

impl ManageConnection for Manager {
    type Connection = Connection;
    type Error = NotConnected;

    fn connect(&self) -> Result<Connection, NotConnected> {
        let connect = || -> Result<Client, Trouble> {
            let mut client = (self.connect)()?;
            client.batch_execute(&self.set_up)?;
            // What a commit answers for is durable, whatever the database does by default.
            let off = client.query_one("SELECT current_setting('synchronous_commit', true) = 'off'", &[])?;
            if off.get::<_, Option<bool>>(0) == Some(true) {
                client.batch_execute("SET synchronous_commit = on")?;
            }
            Ok(client)
        };
        match connect() {
            Ok(client) => {
                *lock(&self.last) = None;
                Ok(Connection { client, statements: HashMap::new() })
            }
            Err(trouble) => {
                let said = trouble.said.clone();
                *lock(&self.last) = Some(trouble);
                Err(NotConnected(said))
            }
        }
    }

    fn is_valid(&self, connection: &mut Connection) -> Result<(), NotConnected> {
        connection.client.simple_query("").map(drop).map_err(|error| NotConnected(error.to_string()))
    }

    fn has_broken(&self, connection: &mut Connection) -> bool {
        connection.client.is_closed()
    }
}

impl Connection {
    /// A statement, prepared once for each connection.
    fn prepared(&mut self, sql: &'static str) -> Result<Statement, postgres::Error> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.client.prepare(sql)?;
        self.statements.insert(sql, statement.clone());
        Ok(statement)
    }

    pub(crate) fn query(
        &mut self,
        sql: &'static str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>, postgres::Error> {
        let statement = self.prepared(sql)?;
        self.client.query(&statement, parameters)
    }

    /// How many rows a statement changed.
    pub(crate) fn execute(
        &mut self,
        sql: &'static str,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<u64, postgres::Error> {
        let statement = self.prepared(sql)?;
        self.client.execute(&statement, parameters)
    }

    /// Several statements that count together.
    pub(crate) fn in_a_transaction<T>(
        &mut self,
        work: impl FnOnce(&mut InTransaction<'_>) -> Result<T, postgres::Error>,
    ) -> Result<T, postgres::Error> {
        let transaction = self.client.transaction()?;
        let mut within = InTransaction { transaction };
        let done = work(&mut within)?;
        within.transaction.commit()?;
        Ok(done)
    }
}

/// A transaction that is open. Dropping it takes it back.
pub(crate) struct InTransaction<'a> {
    transaction: Transaction<'a>,
}

impl InTransaction<'_> {
    pub(crate) fn query<S: ?Sized + ToStatement>(
        &mut self,
        sql: &S,
        parameters: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>, postgres::Error> {
        self.transaction.query(sql, parameters)
    }

    pub(crate) fn batch_execute(&mut self, sql: &str) -> Result<(), postgres::Error> {
        self.transaction.batch_execute(sql)
    }
}

impl Connections {
    /// Makes the first connection.
    pub(crate) fn new(
        connect: Connect,
        place: String,
        schema: String,
        limits: Limits,
    ) -> Result<Connections, StoreError> {
        let quoted = quoted(&schema);
        let timeout = limits.statement_timeout.as_millis();
        let set_up = format!("SET search_path TO {quoted}; SET statement_timeout = {timeout}; SET TIME ZONE 'UTC'");
        let last = Arc::<Mutex<Option<Trouble>>>::default();
        let manager = Manager { connect, last: last.clone(), set_up };
        let pool = Pool::builder()
            .max_size(limits.connections)
            .min_idle(Some(0))
            // A connection that is broken is found out by using it, and what failed is tried again.
            .test_on_check_out(false)
            .connection_timeout(limits.patience.max(Duration::from_millis(1)))
            .error_handler(Box::new(NopErrorHandler))
            .build_unchecked(manager);
        let connections = Connections { pool, last, place, schema, patience: limits.patience };
        connections.run("connect to", |connection| connection.client.simple_query("").map(drop))?;
        Ok(connections)
    }

    /// Does something that may be done twice on one connection, and tries again for as long as the patience lasts where that may help.
    pub(crate) fn run<T>(
        &self,
        action: &'static str,
        mut work: impl FnMut(&mut Connection) -> Result<T, postgres::Error>,
    ) -> Result<T, StoreError> {
        let until = Instant::now() + self.patience;
        let mut pause = FIRST_PAUSE;
        loop {
            let tried = self.connection().and_then(|mut connection| Ok(work(&mut connection)?));
            let trouble = match tried {
                Ok(done) => return Ok(done),
                Err(trouble) => trouble,
            };
            if !trouble.passes_soon() || Instant::now() + pause >= until {
                return Err(trouble.told(action, &self.place));
            }
            tracing::debug!(place = %self.place, said = %trouble.said, "{action}: tried again");
            std::thread::sleep(pause);
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }

    fn connection(&self) -> Result<r2d2::PooledConnection<Manager>, Trouble> {
        self.pool.get().map_err(|error| match lock(&self.last).take() {
            Some(trouble) => trouble,
            None => Trouble::new(RemoteTrouble::Busy, format!("no connection was free: {error}")),
        })
    }
}

/// A name as SQL quotes it.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
