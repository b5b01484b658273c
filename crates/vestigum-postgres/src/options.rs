//! How a store connects.

use std::path::Path;
use std::time::Duration;

use tokio_postgres::config::{Host, SslMode};
use tokio_postgres::tls::{MakeTlsConnect, TlsConnect};
use tokio_postgres::{Config, NoTls, Socket};

use vestigum::{RemoteTrouble, StoreError};

use crate::client::Client;
use crate::connections::{Connections, Limits};
use crate::password_file::{Wanted, password_in};
use crate::{PostgresStore, schema};

/// No call waits longer than a day.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// Describes how a [`PostgresStore`] connects, where the URL does not say it.
///
/// # Example
///
/// ```
/// use std::time::Duration;
/// use vestigum_postgres::PostgresOptions;
///
/// let options = PostgresOptions::new("postgres://fellpost@db.example/fellpost")?
///     .schema("north")                            // one of several games in one database
///     .connections(16)
///     .patience(Duration::from_secs(10));
/// # drop(options);
/// assert!(PostgresOptions::new("postgres://fellpost@db.example:port/").is_err());
/// # Ok::<(), vestigum::StoreError>(())
/// ```
#[derive(Clone, Debug)]
pub struct PostgresOptions {
    config: Config,
    schema: String,
    batch: usize,
    reads_only: bool,
    limits: Limits,
}

impl PostgresOptions {
    /// The options of a URL, as [`PostgresStore::connect`] takes it.
    ///
    /// # Errors
    /// If it cannot be understood.
    pub fn new(url: &str) -> Result<PostgresOptions, StoreError> {
        if let Some(why) = ambiguous(url) {
            let (action, place) = ("understand the URL of", "a PostgreSQL database".to_owned());
            return Err(StoreError::Remote { action, place, trouble: RemoteTrouble::Other, cause: why.into() });
        }
        let mut config: Config = url.parse().map_err(|error: tokio_postgres::Error| {
            let cause = std::error::Error::source(&error).map_or_else(|| error.to_string(), ToString::to_string);
            let (action, place) = ("understand the URL of", "a PostgreSQL database".to_owned());
            StoreError::Remote { action, place, trouble: RemoteTrouble::Other, cause: cause.into() }
        })?;
        if config.get_connect_timeout().is_none() {
            config.connect_timeout(Duration::from_secs(5));
        }
        // A machine that is gone does not say so: who waits for its answer must find out.
        if config.get_tcp_user_timeout().is_none() {
            config.tcp_user_timeout(Duration::from_secs(15));
        }
        config.keepalives_idle(Duration::from_secs(10));
        config.keepalives_interval(Duration::from_secs(5));
        if config.get_application_name().is_none() {
            config.application_name("vestigum");
        }
        let limits = Limits { connections: 8, patience: Duration::from_secs(3), answer_within: Duration::from_secs(5) };
        Ok(PostgresOptions { config, schema: "vestigum".into(), batch: 256, reads_only: false, limits })
    }

    /// Returns whether the URL says a password.
    pub fn has_password(&self) -> bool {
        self.config.get_password().is_some()
    }

    /// Returns whether the URL asks for TLS, with `sslmode=require`.
    pub fn requires_tls(&self) -> bool {
        self.config.get_ssl_mode() == SslMode::Require
    }

    /// Sets the password, where the URL does not say it.
    #[must_use]
    pub fn password(mut self, password: impl AsRef<[u8]>) -> PostgresOptions {
        self.config.password(password);
        self
    }

    /// Takes the password from a file that has a line for each place, `host:port:database:user:password`, where `*` fits everything; none if
    /// no line fits.
    ///
    /// # Errors
    /// If the file cannot be read, or others than its owner may read it.
    pub fn password_file(self, file: &Path) -> Result<PostgresOptions, StoreError> {
        let (host, port, database) = parts_of(&self.config);
        let user = self.config.get_user().unwrap_or_default();
        let found = password_in(file, &Wanted { host: &host, port, database: &database, user });
        match found {
            Ok(Some(password)) => Ok(self.password(password)),
            Ok(None) => Ok(self),
            Err(cause) => Err(StoreError::Io { action: "read the passwords in", path: file.to_path_buf(), cause }),
        }
    }

    /// The schema that the tables are in; `vestigum` by default. Several games can share a database, each with its own.
    #[must_use]
    pub fn schema(mut self, name: impl Into<String>) -> PostgresOptions {
        self.schema = name.into();
        self
    }

    /// Sets how many connections there are at the most; 8 by default, at least 1.
    #[must_use]
    pub fn connections(mut self, most: u32) -> PostgresOptions {
        self.limits.connections = most.max(1);
        self
    }

    /// For how long one call goes on trying when the database cannot be reached or others get in the way; 3 seconds by default, a day at the most. A
    /// save that fails is tried again by the saver, whatever this says.
    #[must_use]
    pub fn patience(mut self, patience: Duration) -> PostgresOptions {
        self.limits.patience = patience.min(LONGEST);
        self
    }

    /// Sets for how long an answer of the database is waited for, here and in the database itself: what takes longer is given up, and the
    /// connection with it; 5 seconds by default, from 200 milliseconds to a day. Where leases are shorter than four times that, it is a quarter of the shortest.
    #[must_use]
    pub fn answer_within(mut self, deadline: Duration) -> PostgresOptions {
        self.limits.answer_within = deadline.clamp(Duration::from_millis(200), LONGEST);
        self
    }

    /// Sets how many saves one statement writes at the most; 256 by default, at least 1.
    #[must_use]
    pub fn batch_size(mut self, most: usize) -> PostgresOptions {
        self.batch = most.max(1);
        self
    }

    /// Only reads, so that a standby will do: what writes fails with [`StoreError::ReadOnly`].
    #[must_use]
    pub fn to_read(mut self) -> PostgresOptions {
        self.reads_only = true;
        self
    }

    /// Returns where it is, without user and password.
    pub fn place(&self) -> String {
        place_of(&self.config)
    }

    /// Connects without TLS. A URL that asks for TLS (`sslmode=require`) is refused.
    ///
    /// # Errors
    /// As [`PostgresStore::connect`].
    pub fn connect(self) -> Result<PostgresStore, StoreError> {
        self.connect_tls(NoTls)
    }

    /// Connects with TLS, made by this crate's module `tls` (with the feature `tls`), or by another crate for it.
    ///
    /// # Errors
    /// As [`PostgresStore::connect`].
    pub fn connect_tls<T>(self, tls: T) -> Result<PostgresStore, StoreError>
    where
        T: MakeTlsConnect<Socket> + Clone + Send + Sync + 'static,
        T::Stream: Send + 'static,
        T::TlsConnect: Send,
        <T::TlsConnect as TlsConnect<Socket>>::Future: Send,
    {
        let (batch, reads_only) = (self.batch, self.reads_only);
        let connections = self.connections_with(tls)?;
        schema::check(&connections)?;
        Ok(PostgresStore::with(connections, batch, reads_only))
    }

    /// Makes or updates the tables, without TLS, and connects.
    ///
    /// # Errors
    /// As [`PostgresStore::prepare`].
    pub fn prepare(self) -> Result<PostgresStore, StoreError> {
        self.prepare_tls(NoTls)
    }

    /// Makes or updates the tables, with TLS, and connects.
    ///
    /// # Errors
    /// As [`PostgresStore::prepare`].
    pub fn prepare_tls<T>(self, tls: T) -> Result<PostgresStore, StoreError>
    where
        T: MakeTlsConnect<Socket> + Clone + Send + Sync + 'static,
        T::Stream: Send + 'static,
        T::TlsConnect: Send,
        <T::TlsConnect as TlsConnect<Socket>>::Future: Send,
    {
        let (batch, reads_only) = (self.batch, self.reads_only);
        let connections = self.connections_with(tls)?;
        schema::prepare(&connections)?;
        Ok(PostgresStore::with(connections, batch, reads_only))
    }

    fn connections_with<T>(self, tls: T) -> Result<Connections, StoreError>
    where
        T: MakeTlsConnect<Socket> + Clone + Send + Sync + 'static,
        T::Stream: Send + 'static,
        T::TlsConnect: Send,
        <T::TlsConnect as TlsConnect<Socket>>::Future: Send,
    {
        let place = self.place();
        let config = self.config;
        let connect = move |within| Client::connect(&config, tls.clone(), within);
        Connections::new(Box::new(connect), place, self.schema, self.limits)
    }
}

/// Returns why a URL cannot be split into user, password and host; what it says is not repeated, as a part of it may be the password.
fn ambiguous(url: &str) -> Option<&'static str> {
    let rest = url.split_once("://")?.1;
    let authority = rest.split(['/', '?']).next().unwrap_or_default();
    (authority.matches('@').count() > 1)
        .then_some("expected one `@`, between the password and the host; write one of the password as `%40`, and `:` as `%3A`, `/` as `%2F`")
}

/// Host, port and database.
fn parts_of(config: &Config) -> (String, u16, String) {
    let host = match config.get_hosts().first() {
        Some(Host::Tcp(host)) => host.clone(),
        #[cfg(unix)]
        Some(Host::Unix(path)) => path.display().to_string(),
        None => "localhost".into(),
    };
    let port = config.get_ports().first().copied().unwrap_or(5432);
    (host, port, config.get_dbname().or_else(|| config.get_user()).unwrap_or_default().to_owned())
}

fn place_of(config: &Config) -> String {
    let (host, port, database) = parts_of(config);
    format!("postgres://{host}:{port}/{database}")
}
