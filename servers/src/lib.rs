//! A PostgreSQL server for as long as a test runs: in a temporary folder, on a socket in it, with no network.
//!
//! What always holds: whatever becomes of the test, the server ends with it, and nothing of it is left.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use tempfile::TempDir;

/// A server.
#[derive(Debug)]
pub struct Server {
    programs: PathBuf,
    folder: TempDir,
    databases: AtomicU32,
    port: u32,
}

impl Server {
    /// Starts a server of its own, as another user if this one is root, which PostgreSQL refuses to be.
    ///
    /// # Panics
    /// If there is no PostgreSQL, or it does not start: without a server there is nothing to test.
    pub fn start() -> Self {
        let programs =
            programs().expect("no `initdb` in PATH or /usr/lib/postgresql/*/bin; install PostgreSQL");
        let folder = tempfile::Builder::new().prefix("cellar-pg").tempdir().expect("a temporary folder");
        let server = Self { programs, folder, databases: AtomicU32::new(0), port: 5999 };
        if is_root() {
            run(Command::new("chown").arg("postgres").arg(server.folder.path()));
        }
        let data = server.data();
        run(server.command("initdb").arg("-D").arg(&data).args([
            "-U",
            "postgres",
            "-A",
            "trust",
            "-E",
            "UTF8",
            "--locale=C",
            "--no-sync",
            "--no-instructions",
        ]));
        server.launch();
        server
    }

    /// Starts the server that was stopped or killed.
    pub fn launch(&self) {
        let options = format!(
            "-c listen_addresses='' -c unix_socket_directories='{}' -c port={} -c fsync=off -c shared_buffers=32MB",
            self.folder.path().display(),
            self.port
        );
        let log = self.folder.path().join("log");
        run(self
            .command("pg_ctl")
            .arg("-D")
            .arg(self.data())
            .arg("-l")
            .arg(log)
            .args(["-w", "-o", &options, "start"]));
    }

    /// Ends the server at once, as a crash would: what was not committed is gone.
    pub fn kill(&self) {
        run(self.command("pg_ctl").arg("-D").arg(self.data()).args(["-m", "immediate", "stop"]));
    }

    /// How to connect to a database of the server, as its owner.
    pub fn address(&self, database: &str) -> String {
        let folder = self.folder.path().display();
        format!("host={folder} port={} user=postgres dbname={database}", self.port)
    }

    /// A name for a database that nobody else uses.
    pub fn fresh_name(&self) -> String {
        format!("test{}", self.databases.fetch_add(1, Ordering::Relaxed))
    }

    fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    /// One of PostgreSQL's programs, run by a user that it takes.
    fn command(&self, program: &str) -> Command {
        let program = self.programs.join(program);
        let mut command = if is_root() {
            let mut command = Command::new("setpriv");
            command.args(["--reuid=postgres", "--regid=postgres", "--init-groups"]).arg(program);
            command
        } else {
            Command::new(program)
        };
        command.current_dir(self.folder.path()).env("LC_ALL", "C").stdin(Stdio::null());
        command
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.command("pg_ctl").arg("-D").arg(self.data()).args(["-m", "immediate", "stop"]).output();
    }
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|metadata| std::os::unix::fs::MetadataExt::uid(&metadata) == 0)
}

/// Where PostgreSQL's programs are; of several versions, the last.
fn programs() -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let mut places: Vec<_> =
        std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten().collect();
    places.sort_by_key(|place| place.file_name().to_string_lossy().parse::<u32>().unwrap_or(0));
    let versions = places.iter().rev().map(|place| place.path().join("bin"));
    std::env::split_paths(&path).chain(versions).find(|place| Path::join(place, "initdb").exists())
}

fn run(command: &mut Command) {
    // Not to a pipe: the server would keep it open.
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status();
    assert!(status.as_ref().is_ok_and(std::process::ExitStatus::success), "{command:?} failed: {status:?}");
}
