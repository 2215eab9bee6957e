//! A private PostgreSQL server on loopback, for a workspace that was given no database.
//!
//! It lives in a data directory: started when the program starts, stopped when it stops, found
//! again by the next start, even if the last one was killed. PostgreSQL refuses to run as root;
//! then its programs run as the `postgres` account that Debian's package makes.

use crate::{Error, Result, random_text};
use std::fmt;
use std::fs::{self, File};
use std::io::Write as _;
use std::net::TcpListener;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

/// A running private server. Stop it with [`Cluster::stop`]; dropped, it goes on running, and
/// the next start finds it.
pub struct Cluster {
    programs: PathBuf,
    folder: PathBuf,
    account: Option<&'static str>,
    port: u16,
    password: String,
    /// Held while this process uses the folder; freed by the system when it ends.
    _lock: File,
}

impl fmt::Debug for Cluster {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Without its password.
        f.debug_struct("Cluster")
            .field("folder", &self.folder)
            .field("port", &self.port)
            .finish_non_exhaustive()
    }
}

impl Cluster {
    /// Starts the server of a folder, making it first if need be.
    ///
    /// # Errors
    /// If PostgreSQL is not installed, the folder cannot be used, another process uses it, or the
    /// server does not start; with what to do.
    pub fn start(folder: &Path) -> Result<Cluster> {
        let programs = programs()?;
        fs::create_dir_all(folder)
            .map_err(|error| cluster(format!("cannot make {}: {error}", folder.display())))?;
        let folder =
            folder.canonicalize().map_err(|error| cluster(format!("{}: {error}", folder.display())))?;
        let lock = lock(&folder)?;
        let is_root = fs::metadata("/proc/self").is_ok_and(|own| own.uid() == 0);
        let account = is_root.then_some("postgres");
        if is_root {
            traversable(&folder)?;
        }
        let mut made = Cluster { programs, folder, account, port: 0, password: String::new(), _lock: lock };
        let fresh = !made.data().join("PG_VERSION").exists();
        if fresh {
            made.initialise()?;
        }
        made.password = fs::read_to_string(made.folder.join("password")).map_err(|error| {
            cluster(format!("the password of the private database cannot be read: {error}"))
        })?;
        if !made.find_running()? {
            made.run_server()?;
        }
        Ok(made)
    }

    /// The URL of a database of this server, which is made if it is not there.
    ///
    /// # Errors
    /// If the server cannot be asked.
    pub async fn database(&self, name: &str) -> Result<String> {
        use sqlx::Connection as _;
        let mut connection = sqlx::PgConnection::connect(&self.url("postgres")).await?;
        let exists = sqlx::query("select 1 from pg_database where datname = $1")
            .bind(name)
            .fetch_optional(&mut connection)
            .await?;
        if exists.is_none() {
            // Names come from this program only; quoted all the same.
            let statement = format!("create database \"{}\"", name.replace('"', ""));
            sqlx::query(sqlx::AssertSqlSafe(statement)).execute(&mut connection).await?;
        }
        connection.close().await?;
        Ok(self.url(name))
    }

    fn url(&self, database: &str) -> String {
        format!("postgres://postgres:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// Whether the server's process is there.
    pub fn is_running(&self) -> bool {
        let first = fs::read_to_string(self.data().join("postmaster.pid"));
        let pid =
            first.ok().and_then(|file| file.lines().next().and_then(|pid| pid.trim().parse::<u32>().ok()));
        pid.is_some_and(|pid| Path::new(&format!("/proc/{pid}")).exists())
    }

    /// Starts the server again, on the port it had, if it is gone: killed, say, or out of memory.
    ///
    /// # Errors
    /// If it does not start.
    pub fn revive(&self) -> Result<()> {
        if self.is_running() {
            return Ok(());
        }
        self.start_on(self.port)
    }

    /// Stops the server and waits until it has.
    ///
    /// # Errors
    /// If it does not stop.
    pub fn stop(&self) -> Result<()> {
        let data = self.data();
        self.run("pg_ctl", &["-D", text(&data), "-m", "fast", "-w", "stop"]).map(|_| ())
    }

    /// The folder the account of the server owns.
    fn own(&self) -> PathBuf {
        self.folder.join("postgresql")
    }

    fn data(&self) -> PathBuf {
        self.own().join("data")
    }

    fn initialise(&self) -> Result<()> {
        let own = self.own();
        let io = |error: std::io::Error| cluster(format!("cannot prepare {}: {error}", own.display()));
        // A start that was killed half way leaves a folder that is of no use to anybody.
        if self.data().exists() {
            fs::remove_dir_all(self.data()).map_err(io)?;
        }
        fs::create_dir_all(&own).map_err(io)?;
        fs::set_permissions(&own, fs::Permissions::from_mode(0o700)).map_err(io)?;
        let password = random_text();
        secret(&self.folder.join("password"), &password).map_err(io)?;
        let handed = own.join("initial-password");
        secret(&handed, &password).map_err(io)?;
        if let Some(account) = self.account {
            let owner = format!("{account}:");
            run(Command::new("chown").args(["-R", &owner]).arg(&own))?;
        }
        let data = self.data();
        let pwfile = format!("--pwfile={}", handed.display());
        let done = self.run(
            "initdb",
            &[
                "-D",
                text(&data),
                "-U",
                "postgres",
                "--auth=scram-sha-256",
                &pwfile,
                "-E",
                "UTF8",
                "--locale=C.UTF-8",
            ],
        );
        fs::remove_file(&handed).map_err(io)?;
        done.map(|_| ())
    }

    /// Whether the server runs already, as after a crash of this program.
    fn find_running(&mut self) -> Result<bool> {
        let data = self.data();
        if self
            .command("pg_ctl")
            .args(["-D", text(&data), "status"])
            .output()
            .is_ok_and(|out| out.status.success())
        {
            let pid_file = fs::read_to_string(data.join("postmaster.pid"))
                .map_err(|error| cluster(error.to_string()))?;
            // The fourth line of postmaster.pid is the port.
            let port = pid_file.lines().nth(3).and_then(|line| line.trim().parse().ok());
            self.port = port.ok_or_else(|| {
                cluster("the port of the running private database cannot be read".to_owned())
            })?;
            return Ok(true);
        }
        Ok(false)
    }

    fn run_server(&mut self) -> Result<()> {
        let data = self.data();
        // The port of the last time if it is free: others may know it.
        let options = fs::read_to_string(data.join("postmaster.opts")).unwrap_or_default();
        let last = options.split_once("\"-p\" \"").and_then(|(_, rest)| rest.split('"').next()?.parse().ok());
        let bound = |port: u16| TcpListener::bind(("127.0.0.1", port)).and_then(|socket| socket.local_addr());
        let free = last.map_or_else(|| bound(0), |port| bound(port).or_else(|_| bound(0)));
        self.port = free.map_err(|error| cluster(format!("no free port on loopback: {error}")))?.port();
        self.start_on(self.port)
    }

    fn start_on(&self, port: u16) -> Result<()> {
        let data = self.data();
        let log = self.own().join("log");
        let options = format!("-p {port} -c listen_addresses=127.0.0.1 -c unix_socket_directories=''");
        let started =
            self.run("pg_ctl", &["-D", text(&data), "-w", "-l", text(&log), "-o", &options, "start"]);
        started.map(|_| ()).map_err(|error| {
            let log = fs::read_to_string(&log).unwrap_or_default();
            let last = log.lines().next_back().unwrap_or("").to_owned();
            cluster(format!("{error}; its log ends: {last}"))
        })
    }

    fn command(&self, program: &str) -> Command {
        let path = self.programs.join(program);
        let mut command = match self.account {
            None => Command::new(path),
            Some(account) => {
                let mut command = Command::new("runuser");
                command.args(["-u", account, "--"]).arg(path);
                command
            }
        };
        // A folder that every account can enter; the present one may be somebody's home.
        command.current_dir("/");
        command
    }

    fn run(&self, program: &str, arguments: &[&str]) -> Result<Output> {
        run(self.command(program).args(arguments))
    }
}

fn cluster(message: String) -> Error {
    Error::Cluster(message)
}

fn text(path: &Path) -> &str {
    path.to_str().unwrap_or_default()
}

/// Runs a program; what it says goes to files of its own, so that a server it leaves behind holds
/// none of our pipes open.
fn run(command: &mut Command) -> Result<Output> {
    let name = format!("{:?}", command.get_program());
    let unusable = |error: std::io::Error| cluster(format!("{name} cannot be run: {error}"));
    let file = || tempfile::tempfile().map_err(|error| cluster(format!("no temporary file: {error}")));
    let (mut said, mut erred) = (file()?, file()?);
    let status = command
        .stdin(std::process::Stdio::null())
        .stdout(said.try_clone().map_err(unusable)?)
        .stderr(erred.try_clone().map_err(unusable)?)
        .status()
        .map_err(unusable)?;
    let out = Output { status, stdout: whole(&mut said), stderr: whole(&mut erred) };
    if status.success() {
        return Ok(out);
    }
    let words = String::from_utf8_lossy(&out.stderr).trim().to_owned();
    let words = if words.is_empty() { String::from_utf8_lossy(&out.stdout).trim().to_owned() } else { words };
    Err(cluster(format!("the private database: {words}")))
}

fn whole(file: &mut File) -> Vec<u8> {
    use std::io::{Read as _, Seek as _};
    let mut bytes = Vec::new();
    let _ = file.rewind().and_then(|()| file.read_to_end(&mut bytes));
    bytes
}

/// Where Debian's package keeps the server's programs: the newest version there is.
fn programs() -> Result<PathBuf> {
    let missing = || {
        cluster(
            "PostgreSQL is not installed: install Debian's package postgresql, or give --database URL"
                .to_owned(),
        )
    };
    let versions = fs::read_dir("/usr/lib/postgresql").map_err(|_| missing())?;
    versions
        .filter_map(|entry| {
            let entry = entry.ok()?;
            let version: u32 = entry.file_name().to_str()?.parse().ok()?;
            let programs = entry.path().join("bin");
            programs.join("initdb").exists().then_some((version, programs))
        })
        .max()
        .map(|(_, programs)| programs)
        .ok_or_else(missing)
}

fn lock(folder: &Path) -> Result<File> {
    let path = folder.join("lock");
    let file = File::options().create(true).truncate(false).write(true).open(&path);
    let file = file.map_err(|error| cluster(format!("{}: {error}", path.display())))?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(_) => Err(cluster(format!(
            "another ostrog uses {}: stop it, or give --data another folder",
            folder.display()
        ))),
    }
}

/// As root the server runs under another account, which must be able to walk to its folder.
fn traversable(folder: &Path) -> Result<()> {
    for parent in folder.ancestors() {
        let mode =
            fs::metadata(parent).map_err(|error| cluster(format!("{}: {error}", parent.display())))?.mode();
        if mode & 0o001 == 0 {
            return Err(cluster(format!(
                "the database runs as the account postgres, which cannot enter {}: give --data a folder elsewhere, such as /var/lib/ostrog",
                parent.display()
            )));
        }
    }
    Ok(())
}

fn secret(path: &Path, text: &str) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let mut file = File::options().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(text.as_bytes())
}
