//! A PostgreSQL cluster of our own: made, started and stopped on loopback, for the demo and for tests.

use std::fs;
use std::io;
use std::net::TcpListener;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, symlink};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// The role that owns the cluster.
pub const OWNER: &str = "gonvel";

/// What went wrong with the cluster, with the remedy.
#[derive(Debug, thiserror::Error)]
pub enum ClusterError {
    /// PostgreSQL is not installed.
    #[error("PostgreSQL's server programs were not found: install Debian's package postgresql-15 (make demo does it)")]
    NotInstalled,
    /// Another program has the port.
    #[error("port {port} on 127.0.0.1 is taken by another program: stop it, or choose another port with {variable}")]
    PortTaken {
        /// The port.
        port: u16,
        /// The variable that changes it.
        variable: &'static str,
    },
    /// Root cannot own a cluster and there is no one else.
    #[error("PostgreSQL does not run as root and there is no user \"postgres\" to run it as: install postgresql-15")]
    NoUser,
    /// One of its programs failed.
    #[error("{program} failed: {output}")]
    Program {
        /// Which.
        program: &'static str,
        /// What it said.
        output: String,
    },
    /// It did not answer in time.
    #[error("the PostgreSQL cluster in {folder} did not answer within {seconds} s; its log is {folder}/server.log")]
    NoAnswer {
        /// Where it lives.
        folder: String,
        /// How long was waited.
        seconds: u64,
    },
    /// A file could not be written or read.
    #[error("{what}: {cause}")]
    File {
        /// What was being done.
        what: String,
        /// Why it failed.
        #[source]
        cause: io::Error,
    },
    /// A statement was refused.
    #[error("a statement for setting up the cluster was refused")]
    Statement(#[from] tokio_postgres::Error),
}

fn file_error(what: impl Into<String>) -> impl FnOnce(io::Error) -> ClusterError {
    let what = what.into();
    move |cause| ClusterError::File { what, cause }
}

/// How a cluster is to be.
#[derive(Debug, Clone)]
pub struct ClusterOptions {
    /// The folder that holds `postgres/` and `pgpass`.
    pub home: PathBuf,
    /// The port on 127.0.0.1.
    pub port: u16,
    /// Settings beyond the usual, as `name=value`.
    pub settings: Vec<String>,
}

/// A running cluster. Dropping it stops the server at once, as does [`Cluster::stop`] with a good end.
#[derive(Debug)]
pub struct Cluster {
    /// Its port on 127.0.0.1.
    pub port: u16,
    /// The owner's password.
    pub password: String,
    pub(crate) data: PathBuf,
    programs: PathBuf,
    child: Option<Child>,
    stopped: bool,
}

pub(crate) struct User {
    pub(crate) uid: u32,
    pub(crate) gid: u32,
}

/// The user to run the server as: none means the caller.
pub(crate) fn server_user() -> Result<Option<User>, ClusterError> {
    let me = fs::metadata("/proc/self").map_err(file_error("cannot read /proc/self"))?.uid();
    if me != 0 {
        return Ok(None);
    }
    let users = fs::read_to_string("/etc/passwd").map_err(file_error("cannot read /etc/passwd"))?;
    let line = users.lines().find(|l| l.starts_with("postgres:")).ok_or(ClusterError::NoUser)?;
    let mut fields = line.split(':').skip(2).map(str::parse);
    match (fields.next(), fields.next()) {
        (Some(Ok(uid)), Some(Ok(gid))) => Ok(Some(User { uid, gid })),
        _ => Err(ClusterError::NoUser),
    }
}

fn programs() -> Result<PathBuf, ClusterError> {
    let mut versions: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .map_err(|_| ClusterError::NotInstalled)?
        .filter_map(Result::ok)
        .filter_map(|e| Some((e.file_name().to_str()?.parse().ok()?, e.path().join("bin"))))
        .filter(|(_, bin)| bin.join("initdb").exists())
        .collect();
    versions.sort();
    versions.pop().map(|(_, path)| path).ok_or(ClusterError::NotInstalled)
}

/// A free port on loopback, of those that the system does not give away by itself (from 32768 on): until it is bound, which for
/// a server of PostgreSQL is a while, every connection that some other program opens could take one of those.
///
/// # Errors
/// If none can be bound.
pub fn free_port() -> io::Result<u16> {
    let one = || TcpListener::bind(("127.0.0.1", rand::random_range(11_000..32_000)))?.local_addr();
    (0..100).find_map(|_| one().ok()).map(|address| address.port()).map_or_else(one_given, Ok)
}

fn one_given() -> io::Result<u16> {
    Ok(TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// Makes the data of a cluster in a folder if it is not there, and gives where it is and the file with its password. The server
/// is not started. `stored` gives what the cluster is to know of the password it is given.
///
/// # Errors
/// [`ClusterError`] with the remedy.
pub fn laid(home: &Path, stored: fn(&str) -> String) -> Result<(PathBuf, PathBuf), ClusterError> {
    let user = server_user()?;
    fs::create_dir_all(home).map_err(file_error(format!("cannot make {}", home.display())))?;
    let home = home.canonicalize().map_err(file_error(format!("cannot find {}", home.display())))?;
    let data = data_folder(&home, user.as_ref())?;
    let pass_file = home.join("pgpass");
    if !data.join("PG_VERSION").exists() {
        make(&programs()?, &data, &pass_file, user.as_ref(), stored)?;
    }
    Ok((data, pass_file))
}

/// Where the data goes: `home/postgres`, unless the server's user cannot reach it there (a home under /root, say); then a
/// folder under /var/tmp to which `home/postgres` links.
fn data_folder(home: &Path, user: Option<&User>) -> Result<PathBuf, ClusterError> {
    let plain = home.join("postgres");
    if user.is_none() || plain.exists() {
        return plain.canonicalize().or(Ok(plain));
    }
    let reachable = home.ancestors().all(|folder| fs::metadata(folder).is_ok_and(|m| m.permissions().mode() & 0o001 != 0));
    if reachable {
        return Ok(plain);
    }
    let tag = home.to_string_lossy().replace('/', "-");
    let aside = PathBuf::from(format!("/var/tmp/gonvel{tag}"));
    fs::create_dir_all(&aside).map_err(file_error(format!("cannot make {}", aside.display())))?;
    symlink(&aside, &plain).map_err(file_error(format!("cannot link {}", plain.display())))?;
    Ok(aside)
}

pub(crate) fn as_user(program: &Path, user: Option<&User>) -> Command {
    let mut command = Command::new(program);
    command.current_dir("/").stdin(Stdio::null());
    if let Some(user) = user {
        command.uid(user.uid).gid(user.gid);
    }
    command
}

fn run(name: &'static str, command: &mut Command) -> Result<(), ClusterError> {
    let output = command.output().map_err(file_error(format!("cannot run {name}")))?;
    if output.status.success() {
        return Ok(());
    }
    let said = [output.stdout, output.stderr].map(|b| String::from_utf8_lossy(&b).trim().to_owned()).join(" ");
    Err(ClusterError::Program { program: name, output: said })
}

fn random_password() -> Result<String, ClusterError> {
    use io::Read;
    let mut bytes = [0_u8; 18];
    let mut source = fs::File::open("/dev/urandom").map_err(file_error("cannot open /dev/urandom"))?;
    source.read_exact(&mut bytes).map_err(file_error("cannot read /dev/urandom"))?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Writes a file that only its owner may read.
fn write_private(path: &Path, text: &str) -> Result<(), ClusterError> {
    let name = format!("cannot write {}", path.display());
    fs::write(path, "").map_err(file_error(name.clone()))?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o600)).map_err(file_error(name.clone()))?;
    fs::write(path, text).map_err(file_error(name))
}

impl Cluster {
    /// Makes the cluster if it is not there, starts it if it does not run, and waits until it answers.
    ///
    /// # Errors
    /// [`ClusterError`] with the remedy.
    pub async fn start(options: &ClusterOptions) -> Result<Self, ClusterError> {
        let programs = programs()?;
        let user = server_user()?;
        let (data, pass_file) = laid(&options.home, str::to_owned)?;
        let password = read_password(&pass_file)?;
        write_private(&pass_file, &format!("127.0.0.1:{}:*:{OWNER}:{password}\n", options.port))?;
        let mut cluster = Self { port: options.port, password, data, programs, child: None, stopped: false };
        if cluster.runs_already().await {
            return Ok(cluster);
        }
        if TcpListener::bind(("127.0.0.1", options.port)).is_err() {
            cluster.stopped = true;
            return Err(ClusterError::PortTaken { port: options.port, variable: "GONVEL_PG_PORT" });
        }
        let log = data_log(&cluster.data)?;
        let mut command = as_user(&cluster.programs.join("postgres"), user.as_ref());
        command.arg("-D").arg(&cluster.data).arg("-p").arg(options.port.to_string());
        for setting in SETTINGS.iter().copied().chain(options.settings.iter().map(String::as_str)) {
            command.arg("-c").arg(setting);
        }
        // a process group of its own: Ctrl-C reaches only the caller, who stops the server in good order
        command.stdout(log.try_clone().map_err(file_error("cannot share the log"))?).stderr(log).process_group(0);
        cluster.child = Some(command.spawn().map_err(file_error("cannot start postgres"))?);
        cluster.wait_until_it_answers(Duration::from_secs(60)).await?;
        Ok(cluster)
    }

    async fn runs_already(&self) -> bool {
        let Ok(pid_file) = fs::read_to_string(self.data.join("postmaster.pid")) else { return false };
        let mut lines = pid_file.lines();
        let alive = lines.next().is_some_and(|pid| Path::new("/proc").join(pid.trim()).exists());
        let port = lines.nth(2).and_then(|p| p.trim().parse::<u16>().ok());
        alive && port == Some(self.port) && self.connect("postgres").await.is_ok()
    }

    async fn wait_until_it_answers(&mut self, patience: Duration) -> Result<(), ClusterError> {
        let start = Instant::now();
        while start.elapsed() < patience {
            if self.is_ready() && self.connect("postgres").await.is_ok() {
                return Ok(());
            }
            if let Some(Ok(Some(_))) = self.child.as_mut().map(Child::try_wait) {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Err(ClusterError::NoAnswer { folder: self.data.display().to_string(), seconds: start.elapsed().as_secs() })
    }

    /// Whether the server of this cluster takes sessions. One of another cluster, which took the port a moment earlier, answers as well.
    fn is_ready(&self) -> bool {
        let told = fs::read_to_string(self.data.join("postmaster.pid")).unwrap_or_default();
        told.lines().nth(7).is_some_and(|status| matches!(status.trim(), "ready" | "standby"))
    }

    /// Connects to one of its databases as the owner.
    ///
    /// # Errors
    /// If the server refuses.
    pub async fn connect(&self, database: &str) -> Result<tokio_postgres::Client, tokio_postgres::Error> {
        let (client, connection) = tokio_postgres::connect(&self.url(database), tokio_postgres::NoTls).await?;
        tokio::spawn(connection);
        Ok(client)
    }

    /// The address of one of its databases, with the owner's password.
    #[must_use]
    pub fn url(&self, database: &str) -> String {
        format!("postgresql://{OWNER}:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// Makes a database if it is not there; true if it was made.
    ///
    /// # Errors
    /// If the server refuses.
    pub async fn ensure_database(&self, name: &str) -> Result<bool, ClusterError> {
        let client = self.connect("postgres").await?;
        if client.query_opt("SELECT 1 FROM pg_database WHERE datname = $1", &[&name]).await?.is_some() {
            return Ok(false);
        }
        client.batch_execute(&format!("CREATE DATABASE \"{name}\"")).await?;
        Ok(true)
    }

    /// Copies the running cluster into another home, from which a replica of it can be started: it follows this cluster until it is
    /// told to take over.
    ///
    /// # Errors
    /// [`ClusterError`] if the copy fails.
    pub fn replica(&self, home: &Path) -> Result<(), ClusterError> {
        let (user, data) = (server_user()?, home.join("postgres"));
        fs::create_dir_all(&data).map_err(file_error(format!("cannot make {}", data.display())))?;
        fs::set_permissions(&data, fs::Permissions::from_mode(0o700)).map_err(file_error("cannot protect the copy"))?;
        if let Some(user) = &user {
            chown(&data, Some(user.uid), Some(user.gid)).map_err(file_error("cannot hand over the copy"))?;
        }
        let mut command = as_user(&self.programs.join("pg_basebackup"), user.as_ref());
        command.env("PGPASSWORD", &self.password).args(["-h", "127.0.0.1", "-U", OWNER, "--no-sync", "-c", "fast", "-R"]);
        command.arg("-p").arg(self.port.to_string()).arg("-D").arg(&data);
        run("pg_basebackup", &mut command)?;
        write_private(&home.join("pgpass"), &format!("127.0.0.1:*:*:{OWNER}:{}\n", self.password))
    }

    /// Writes one of its databases into a file, or brings it back from there as it then was; whoever uses it is cut off.
    ///
    /// # Errors
    /// [`ClusterError`] if one of PostgreSQL's programs fails.
    pub fn dump(&self, database: &str, file: &Path) -> Result<(), ClusterError> {
        run("pg_dump", self.program("pg_dump").arg("-Fc").arg("-f").arg(file).arg(self.url(database)))
    }

    /// See [`Self::dump`].
    ///
    /// # Errors
    /// [`ClusterError`] if one of PostgreSQL's programs fails.
    pub async fn restore(&self, database: &str, file: &Path) -> Result<(), ClusterError> {
        let client = self.connect("postgres").await?;
        client.batch_execute(&format!("DROP DATABASE \"{database}\" WITH (FORCE)")).await?;
        client.batch_execute(&format!("CREATE DATABASE \"{database}\"")).await?;
        run("pg_restore", self.program("pg_restore").arg("-d").arg(self.url(database)).arg(file))
    }

    fn program(&self, name: &str) -> Command {
        let mut command = Command::new(self.programs.join(name));
        command.stdin(Stdio::null());
        command
    }

    /// Forgets a cluster: stops it if it still runs and removes its data and its password.
    ///
    /// # Errors
    /// If it does not stop, or a file cannot be removed.
    pub fn remove(home: &Path) -> Result<(), ClusterError> {
        let link = home.join("postgres");
        let Ok(data) = link.canonicalize() else { return Ok(()) };
        let pid = fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
        if pid.lines().next().is_some_and(|pid| Path::new("/proc").join(pid.trim()).exists()) {
            let (password, programs) = (String::new(), programs()?);
            Self { port: 0, password, data: data.clone(), programs, child: None, stopped: false }.stop_with("immediate")?;
        }
        fs::remove_dir_all(&data).map_err(file_error(format!("cannot remove {}", data.display())))?;
        if link.is_symlink() {
            fs::remove_file(&link).map_err(file_error(format!("cannot remove {}", link.display())))?;
        }
        let _ = fs::remove_file(home.join("pgpass"));
        Ok(())
    }

    /// Stops the server in good order.
    ///
    /// # Errors
    /// If it does not stop.
    pub fn stop(mut self) -> Result<(), ClusterError> {
        self.stop_with("fast")
    }

    /// Stops the server without good order, as a crash would, and starts it again with the same settings.
    ///
    /// # Errors
    /// If it does not stop or start.
    pub async fn crash_and_restart(mut self, options: &ClusterOptions) -> Result<Self, ClusterError> {
        self.stop_with("immediate")?;
        Self::start(options).await
    }

    fn stop_with(&mut self, mode: &str) -> Result<(), ClusterError> {
        self.stopped = true;
        let user = server_user()?;
        let mut command = as_user(&self.programs.join("pg_ctl"), user.as_ref());
        command.arg("stop").arg("-w").arg("-D").arg(&self.data).arg("-m").arg(mode);
        run("pg_ctl stop", &mut command)?;
        if let Some(mut child) = self.child.take() {
            let _ = child.wait();
        }
        Ok(())
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        if !self.stopped {
            let _ = self.stop_with("immediate");
        }
    }
}

const SETTINGS: [&str; 12] = [
    "listen_addresses=127.0.0.1",
    "unix_socket_directories=",
    "wal_level=logical",
    "max_wal_senders=40",
    "max_replication_slots=40",
    "max_connections=200",
    "shared_buffers=512MB",
    "max_wal_size=4GB",
    "wal_buffers=64MB",
    "checkpoint_timeout=15min",
    "timezone=UTC",
    "log_min_messages=warning",
];

fn data_log(data: &Path) -> Result<fs::File, ClusterError> {
    let path = data.join("server.log");
    fs::OpenOptions::new().create(true).append(true).open(path).map_err(file_error("cannot open the server's log"))
}

fn make(
    programs: &Path,
    data: &Path,
    pass_file: &Path,
    user: Option<&User>,
    stored: fn(&str) -> String,
) -> Result<(), ClusterError> {
    let password = random_password()?;
    fs::create_dir_all(data).map_err(file_error(format!("cannot make {}", data.display())))?;
    fs::set_permissions(data, fs::Permissions::from_mode(0o700)).map_err(file_error("cannot protect the data folder"))?;
    let secret = std::env::temp_dir().join(format!("gonvel-{}", random_password()?));
    write_private(&secret, &stored(&password))?;
    if let Some(user) = user {
        for path in [data, secret.as_path()] {
            chown(path, Some(user.uid), Some(user.gid))
                .map_err(file_error(format!("cannot hand over {}", path.display())))?;
        }
    }
    let mut command = as_user(&programs.join("initdb"), user);
    command.args(["--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8", "--no-sync", "-U", OWNER]);
    command.arg("--pwfile").arg(&secret).arg("-D").arg(data);
    let made = run("initdb", &mut command);
    let _ = fs::remove_file(&secret);
    made?;
    write_private(pass_file, &format!("127.0.0.1:*:*:{OWNER}:{password}\n"))
}

fn read_password(pass_file: &Path) -> Result<String, ClusterError> {
    let text = fs::read_to_string(pass_file).map_err(file_error(format!(
        "cannot read {}, which holds the cluster's password (make demo-reset begins anew)",
        pass_file.display()
    )))?;
    Ok(text.trim().rsplit(':').next().unwrap_or_default().to_owned())
}
