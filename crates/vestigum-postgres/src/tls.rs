//! TLS: which certificates of a database are trusted.

use std::io;
use std::path::Path;
use std::sync::Arc;

use rustls::crypto::ring;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use rustls::{ClientConfig, RootCertStore};

use vestigum::StoreError;

/// Makes connections with TLS: [`PostgresOptions::connect_tls`](crate::PostgresOptions::connect_tls) takes it.
pub use tokio_postgres_rustls::MakeRustlsConnect as Connector;

/// Trusts the certificates that are signed by an authority in `file`, and no others. The file is PEM, one certificate after the
/// other, as hosted databases offer it for download.
///
/// # Errors
/// If the file cannot be read, or has no certificate.
///
/// # Example
///
/// ```no_run
/// use vestigum_postgres::{PostgresOptions, tls};
///
/// let options = PostgresOptions::new("postgres://fellpost@db.example/fellpost?sslmode=require")?;
/// let store = options.connect_tls(tls::trust_file("authority.pem")?)?;
/// # drop(store);
/// # Ok::<(), vestigum::StoreError>(())
/// ```
pub fn trust_file(file: impl AsRef<Path>) -> Result<Connector, StoreError> {
    let file = file.as_ref();
    let failed = |cause| StoreError::Io { action: "read the certificates in", path: file.to_path_buf(), cause };
    let read = CertificateDer::pem_file_iter(file).and_then(Iterator::collect::<Result<Vec<_>, _>>);
    let certificates = read.map_err(|error| failed(io::Error::other(error)))?;
    let trusted = trusting(certificates);
    if trusted.is_empty() {
        return Err(failed(io::Error::other("expected certificates in PEM, found none that can be used")));
    }
    Ok(connector(trusted))
}

/// Trusts the certificates that are signed by an authority of this machine.
///
/// # Errors
/// If the machine has none.
///
/// # Example
///
/// ```no_run
/// use vestigum_postgres::{PostgresOptions, tls};
///
/// let options = PostgresOptions::new("postgres://fellpost@db.example/fellpost?sslmode=require")?;
/// let store = options.connect_tls(tls::trust_system()?)?;
/// # drop(store);
/// # Ok::<(), vestigum::StoreError>(())
/// ```
pub fn trust_system() -> Result<Connector, StoreError> {
    let found = rustls_native_certs::load_native_certs();
    let trusted = trusting(found.certs);
    if trusted.is_empty() {
        let why = found.errors.first().map(|error| format!(": {error}")).unwrap_or_default();
        let cause = io::Error::other(format!("the machine has no certificates of authorities that can be used{why}"));
        return Err(StoreError::Io { action: "read the certificates in", path: "/etc/ssl/certs".into(), cause });
    }
    Ok(connector(trusted))
}

/// Leaves out what is not a certificate of an authority: bundles of machines have such.
fn trusting(certificates: Vec<CertificateDer<'_>>) -> RootCertStore {
    let mut trusted = RootCertStore::empty();
    trusted.add_parsable_certificates(certificates);
    trusted
}

fn connector(trusted: RootCertStore) -> Connector {
    // The provider is named, so that a game that links two of them does not panic here.
    let builder = ClientConfig::builder_with_provider(Arc::new(ring::default_provider()));
    let versions = builder.with_safe_default_protocol_versions();
    let config = versions.unwrap_or_else(|error| unreachable!("ring has the ciphers of TLS 1.2 and 1.3: {error}"));
    Connector::new(config.with_root_certificates(trusted).with_no_client_auth())
}
