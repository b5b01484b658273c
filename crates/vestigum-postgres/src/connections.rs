//! Connections, and trying again.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use r2d2::{ManageConnection, NopErrorHandler, Pool};
use thiserror::Error;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Row, Statement};

use vestigum::{RemoteTrouble, StoreError};

use crate::client::{Answered, Client};
use crate::lock;
use crate::trouble::Trouble;

/// The first pause before something is tried again; it doubles each time.
const FIRST_PAUSE: Duration = Duration::from_millis(5);
const LONGEST_PAUSE: Duration = Duration::from_millis(500);

#[derive(Clone, Copy, Debug)]
pub(crate) struct Limits {
    pub connections: u32,
    pub patience: Duration,
    pub answer_within: Duration,
}

/// Says how long a statement waits for a row that somebody else has locked. Nobody of this store has one for longer than a commit takes.
const LOCK_TIMEOUT: Duration = Duration::from_millis(400);

/// After how long the database ends a transaction in which nothing happens: its server was cut off in the middle, and what it has locked
/// keeps players out.
const IDLE_TIMEOUT: Duration = Duration::from_secs(3);

/// No deadline is shorter: a database that is well takes that long now and then.
const SHORTEST_DEADLINE: Duration = Duration::from_millis(200);

/// Makes a connection that waits at most this long for an answer.
pub(crate) type Connect = Box<dyn Fn(Duration) -> Answered<Client> + Send + Sync>;

/// The connections of a store.
pub(crate) struct Connections {
    pool: Pool<Manager>,
    /// One that nothing but leases is asked on: whatever happens to the others, leases are renewed.
    urgent: Pool<Manager>,
    /// Says why the last connection could not be made.
    last: Arc<Mutex<Option<Trouble>>>,
    pub place: String,
    pub schema: String,
    limits: Limits,
    /// The shortest lease that was asked for, in milliseconds; 0 if there was none.
    lease_ms: AtomicU64,
}

struct Manager {
    connect: Arc<Connect>,
    within: Duration,
    last: Arc<Mutex<Option<Trouble>>>,
    /// Says what each connection is told first.
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
            let mut client = (self.connect)(self.within)?;
            client.batch(&self.set_up)?;
            // A machine in between that is gone: not every database that speaks this protocol knows the word.
            let _ = client.batch("SET tcp_user_timeout = 10000");
            // What a commit answers for is durable, whatever the database does by default.
            let off = client.query_once("SELECT current_setting('synchronous_commit', true) = 'off'", &[])?;
            if off.first().and_then(|row| row.get::<_, Option<bool>>(0)) == Some(true) {
                client.batch("SET synchronous_commit = on")?;
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
        connection.client.batch("").map_err(|error| NotConnected(error.to_string()))
    }

    fn has_broken(&self, connection: &mut Connection) -> bool {
        connection.client.is_over()
    }
}

impl Connection {
    /// A statement, prepared once for each connection.
    fn prepared(&mut self, sql: &'static str) -> Answered<Statement> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.client.prepare(sql)?;
        self.statements.insert(sql, statement.clone());
        Ok(statement)
    }

    pub(crate) fn query(&mut self, sql: &'static str, parameters: &[&(dyn ToSql + Sync)]) -> Answered<Vec<Row>> {
        let statement = self.prepared(sql)?;
        self.client.query(&statement, parameters)
    }

    /// Returns how many rows a statement changed.
    pub(crate) fn execute(&mut self, sql: &'static str, parameters: &[&(dyn ToSql + Sync)]) -> Answered<u64> {
        let statement = self.prepared(sql)?;
        self.client.execute(&statement, parameters)
    }

    /// Several statements that count together.
    pub(crate) fn in_a_transaction<T>(
        &mut self,
        work: impl FnOnce(&mut InTransaction<'_>) -> Answered<T>,
    ) -> Answered<T> {
        self.client.batch("BEGIN")?;
        match work(&mut InTransaction { client: &mut self.client }) {
            Ok(done) => self.client.batch("COMMIT").map(|()| done),
            Err(error) => {
                // A connection that is over takes nothing back; the database does when it hears of it.
                if !self.client.is_over() {
                    let _ = self.client.batch("ROLLBACK");
                }
                Err(error)
            }
        }
    }
}

/// A transaction that is open.
pub(crate) struct InTransaction<'a> {
    client: &'a mut Client,
}

impl InTransaction<'_> {
    pub(crate) fn query(&mut self, sql: &str, parameters: &[&(dyn ToSql + Sync)]) -> Answered<Vec<Row>> {
        self.client.query_once(sql, parameters)
    }

    pub(crate) fn batch(&mut self, sql: &str) -> Answered<()> {
        self.client.batch(sql)
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
        let [answer, locked, idle] =
            [limits.answer_within, LOCK_TIMEOUT, IDLE_TIMEOUT].map(|timeout| timeout.as_millis());
        let set_up = format!(
            "SET search_path TO {quoted}; SET statement_timeout = {answer}; SET lock_timeout = {locked};
             SET idle_in_transaction_session_timeout = {idle}; SET TIME ZONE 'UTC'"
        );
        let (last, connect) = (Arc::<Mutex<Option<Trouble>>>::default(), Arc::new(connect));
        let pool = |size: u32| {
            let (connect, set_up) = (connect.clone(), set_up.clone());
            let manager = Manager { connect, within: limits.answer_within, last: last.clone(), set_up };
            Pool::builder()
                .max_size(size)
                .min_idle(Some(0))
                // A connection that is broken is found out by using it, and what failed is tried again.
                .test_on_check_out(false)
                .connection_timeout(limits.patience.max(Duration::from_millis(1)))
                .error_handler(Box::new(NopErrorHandler))
                .build_unchecked(manager)
        };
        let (pool, urgent) = (pool(limits.connections), pool(1));
        let connections = Connections { pool, urgent, last, place, schema, limits, lease_ms: AtomicU64::new(0) };
        connections.run("connect to", |connection| connection.client.batch(""))?;
        Ok(connections)
    }

    /// Shortens the deadlines: whoever holds leases that run this long must hear of trouble well before they have run out.
    pub(crate) fn leases_run(&self, lasts: Duration) {
        let lasts = u64::try_from(lasts.as_millis()).unwrap_or(u64::MAX).max(1);
        let shorter = |known: u64| (known == 0 || lasts < known).then_some(lasts);
        // Whoever was quicker with a shorter one is right.
        let _ = self.lease_ms.fetch_update(Ordering::Relaxed, Ordering::Relaxed, shorter);
    }

    /// Returns for how long one answer is waited for, and for how long something is tried.
    fn deadlines(&self) -> (Duration, Duration) {
        let Limits { answer_within, patience, .. } = self.limits;
        match self.lease_ms.load(Ordering::Relaxed) {
            0 => (answer_within, patience),
            lease => {
                let lease = Duration::from_millis(lease);
                (answer_within.min((lease / 4).max(SHORTEST_DEADLINE)), patience.min(lease / 2))
            }
        }
    }

    /// Does something that may be done twice on one connection, and tries again for as long as the patience lasts where that may help.
    pub(crate) fn run<T>(
        &self,
        action: &'static str,
        work: impl FnMut(&mut Connection) -> Answered<T>,
    ) -> Result<T, StoreError> {
        self.run_on(&self.pool, action, work)
    }

    /// Does something on the connection that is kept for leases, as [`Connections::run`] does.
    pub(crate) fn run_urgent<T>(
        &self,
        action: &'static str,
        work: impl FnMut(&mut Connection) -> Answered<T>,
    ) -> Result<T, StoreError> {
        self.run_on(&self.urgent, action, work)
    }

    fn run_on<T>(
        &self,
        pool: &Pool<Manager>,
        action: &'static str,
        mut work: impl FnMut(&mut Connection) -> Answered<T>,
    ) -> Result<T, StoreError> {
        let (deadline, patience) = self.deadlines();
        let until = Instant::now() + patience;
        let mut pause = FIRST_PAUSE;
        loop {
            let tried = self.connection(pool).and_then(|mut connection| {
                connection.client.deadline = deadline;
                Ok(work(&mut connection)?)
            });
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

    fn connection(&self, pool: &Pool<Manager>) -> Result<r2d2::PooledConnection<Manager>, Trouble> {
        pool.get().map_err(|error| match lock(&self.last).take() {
            Some(trouble) => trouble,
            None => Trouble::new(RemoteTrouble::Busy, format!("no connection was free: {error}")),
        })
    }
}

/// A name as SQL quotes it.
pub(crate) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}
