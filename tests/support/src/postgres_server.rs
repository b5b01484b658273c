//! A PostgreSQL server of a test's own: started in a folder of its own, and gone when the test is.
//!
//! Where no PostgreSQL is installed, the tests that need one say so and pass; where `VESTIGUM_NEEDS_POSTGRES` is set, as in CI, they
//! fail.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

const USER: &str = "fellpost";

/// The authority that signed the certificate of [`PostgresServer::start_with_tls`]; it is valid until 2126, and signs nothing else.
pub const AUTHORITY: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/certificates/authority.pem");
const CERTIFICATE: &str = include_str!("../certificates/server.pem");
const KEY: &str = include_str!("../certificates/server.key");

/// A server that runs.
#[derive(Debug)]
pub struct PostgresServer {
    programs: PathBuf,
    folder: PathBuf,
    port: u16,
    /// Whether it speaks TLS, with the certificate of `certificates`.
    has_tls: bool,
    /// Stops the server and removes its folder once this program has ended, however it ends.
    keeper: Child,
}

/// Returns where `initdb` and the others are.
fn programs() -> Option<PathBuf> {
    let in_path = std::env::var_os("PATH").map(|path| std::env::split_paths(&path).collect::<Vec<_>>());
    let mut folders = in_path.unwrap_or_default();
    if let Ok(versions) = std::fs::read_dir("/usr/lib/postgresql") {
        let mut versions: Vec<PathBuf> = versions.flatten().map(|version| version.path().join("bin")).collect();
        versions.sort();
        folders.extend(versions.into_iter().rev());
    }
    folders.into_iter().find(|folder| folder.join("initdb").is_file() && folder.join("pg_ctl").is_file())
}

/// The server refuses to run as root.
fn is_root() -> bool {
    Command::new("id").arg("-u").output().is_ok_and(|id| id.stdout == b"0\n")
}

/// A command that is run as somebody who may run a server.
fn as_user(program: &Path) -> Command {
    if !is_root() {
        return Command::new(program);
    }
    // Its group has another name from system to system.
    let group = Command::new("id").args(["-g", "nobody"]).output().unwrap_or_else(|error| panic!("id: {error}"));
    let group = String::from_utf8_lossy(&group.stdout).trim().to_owned();
    let mut command = Command::new("setpriv");
    command.args(["--reuid=nobody", &format!("--regid={group}"), "--clear-groups"]).arg(program);
    command
}

fn run(mut command: Command) {
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let done = command.status().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(done.success(), "{command:?} ended with {done}");
}

fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.local_addr().unwrap().port()
}

static SERVERS: AtomicU32 = AtomicU32::new(0);

impl PostgresServer {
    /// Starts a server; none if PostgreSQL is not installed.
    pub fn start() -> Option<PostgresServer> {
        PostgresServer::start_with(false)
    }

    /// Starts a server that speaks TLS, with a certificate for 127.0.0.1 that is signed by [`AUTHORITY`].
    pub fn start_with_tls() -> Option<PostgresServer> {
        PostgresServer::start_with(true)
    }

    fn start_with(has_tls: bool) -> Option<PostgresServer> {
        let Some(programs) = programs() else {
            let needed = std::env::var_os("VESTIGUM_NEEDS_POSTGRES").is_some();
            assert!(!needed, "PostgreSQL is not installed, and VESTIGUM_NEEDS_POSTGRES is set");
            // Past what captures the output of tests: nobody should believe that this was tried.
            let _ = writeln!(std::io::stderr(), "SKIPPED: PostgreSQL is not installed, so this test tries nothing");
            return None;
        };
        let number = SERVERS.fetch_add(1, Ordering::Relaxed);
        let folder = std::env::temp_dir().join(format!("vestigum-postgres-{}-{number}", std::process::id()));
        let _ = std::fs::remove_dir_all(&folder);
        std::fs::create_dir(&folder).unwrap();
        if is_root() {
            let mut own = Command::new("chown");
            own.arg("nobody").arg(&folder);
            run(own);
        }
        let mut init = as_user(&programs.join("initdb"));
        init.arg("-D").arg(folder.join("data")).args(["-A", "trust", "-U", USER, "-E", "UTF8", "--no-sync"]);
        run(init);
        if has_tls {
            // The server refuses a key that others may read, and one that is another user's.
            for (file, text) in [("server.crt", CERTIFICATE), ("server.key", KEY)] {
                let mut write = as_user(Path::new("sh"));
                write.args(["-c", "umask 077; printf '%s' \"$0\" > \"$1\"", text]).arg(folder.join("data").join(file));
                run(write);
            }
        }
        let script = "read -r _; eval \"$0 -D $1/data -m immediate stop\" >/dev/null 2>&1; rm -rf \"$1\"";
        let mut stop = as_user(&programs.join("pg_ctl"));
        let words: Vec<String> = std::iter::once(stop.get_program().to_owned())
            .chain(stop.get_args().map(ToOwned::to_owned))
            .map(|word| word.to_string_lossy().into_owned())
            .collect();
        stop = Command::new("sh");
        stop.args(["-c", script, &words.join(" ")]).arg(&folder);
        stop.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        let keeper = stop.spawn().unwrap();
        let server = PostgresServer { programs, folder, port: free_port(), has_tls, keeper };
        server.restart();
        Some(server)
    }

    /// The server that the tests of one program share.
    pub fn shared() -> Option<&'static PostgresServer> {
        static SERVER: OnceLock<Option<PostgresServer>> = OnceLock::new();
        SERVER.get_or_init(PostgresServer::start).as_ref()
    }

    /// Returns what connects to it.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Returns how to connect to it.
    pub fn url(&self) -> String {
        format!("postgres://{USER}@127.0.0.1:{}/postgres", self.port)
    }

    /// A schema that nobody has used.
    pub fn new_schema(&self) -> String {
        static SCHEMAS: AtomicU32 = AtomicU32::new(0);
        format!("test_{}_{}", std::process::id(), SCHEMAS.fetch_add(1, Ordering::Relaxed))
    }

    fn control(&self, arguments: &[&str]) {
        let mut control = as_user(&self.programs.join("pg_ctl"));
        control.arg("-D").arg(self.folder.join("data")).args(arguments);
        run(control);
    }

    /// Starts it again after it was stopped or killed.
    pub fn restart(&self) {
        let tls = if self.has_tls { " -c ssl=on" } else { "" };
        let options = format!("-p {} -k {} -c listen_addresses=127.0.0.1{tls}", self.port, self.folder.display());
        let log = self.folder.join("log");
        self.control(&["-w", "-l", &log.display().to_string(), "-o", &options, "start"]);
    }

    /// Stops it as an administrator does; connections are closed.
    pub fn stop(&self) {
        self.control(&["-m", "fast", "-w", "stop"]);
    }

    fn process(&self) -> String {
        let file = std::fs::read_to_string(self.folder.join("data/postmaster.pid")).unwrap();
        file.lines().next().unwrap().to_owned()
    }

    /// Kills it with signal 9, and waits until it is gone.
    pub fn kill(&self) {
        let process = self.process();
        self.signal("-KILL");
        let began = Instant::now();
        while Path::new("/proc").join(&process).exists() && began.elapsed() < Duration::from_secs(10) {
            std::thread::sleep(Duration::from_millis(5));
        }
        // Its children end when they notice; until then a new server does not start.
        std::thread::sleep(Duration::from_millis(200));
    }

    /// Sends a signal to the server itself.
    pub fn signal(&self, signal: &str) {
        let mut kill = Command::new("kill");
        kill.args([signal, &self.process()]);
        run(kill);
    }
}

impl Drop for PostgresServer {
    fn drop(&mut self) {
        drop(self.keeper.stdin.take());
        let _ = self.keeper.wait();
    }
}
