//! What stands between Gonvel and a system, for tests: an SSH server and two proxies as Debian has them. They are unpacked beside what is
//! built (`scripts/peers.sh`), not installed.

use std::collections::BTreeMap;
use std::fs;
use std::net::TcpStream;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use crate::postgres_cluster::{User, as_user, free_port, server_user};

/// One of them, on a free port of this machine; it goes with all that it started.
pub struct Gate {
    /// Its port.
    pub port: u16,
    child: Option<Child>,
    home: tempfile::TempDir,
    user: Option<User>,
    program: PathBuf,
    arguments: Vec<String>,
}

/// An SSH server, and who may log in.
pub struct SshServer {
    /// The server.
    pub gate: Gate,
    /// Who may log in.
    pub user: String,
    /// The private key of whoever may, as OpenSSH writes it.
    pub key: String,
    /// The same, locked with [`LOCKED_WITH`].
    pub locked_key: String,
    /// One of RSA.
    pub rsa_key: String,
    /// The keys that it shows, each a line.
    pub host_keys: Vec<String>,
}

/// The password of [`SshServer::locked_key`].
pub const LOCKED_WITH: &str = "egremont";

/// A user of a proxy, with the password.
pub const LOGIN: (&str, &str) = ("picker", "discovery");

/// Where the programs were unpacked: `target/peers`.
fn peers() -> PathBuf {
    let own = std::env::current_exe().expect("a path of one's own");
    let folder = own.ancestors().nth(3).expect("target/debug/deps").join("peers");
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../scripts/peers.sh");
    let done = Command::new(script).arg(&folder).stdout(Stdio::null()).status().expect("a script that unpacks them");
    assert!(done.success(), "what tests talk to cannot be unpacked: see scripts/peers.sh");
    folder
}

impl Gate {
    /// A home of its own with one of the programs, which whoever runs it can read.
    fn home(program: &str) -> (tempfile::TempDir, Option<User>, PathBuf) {
        let home = tempfile::Builder::new().prefix("gonvel-gate").tempdir().expect("a temporary folder");
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755)).expect("a folder of one's own");
        let user = server_user().expect("a user to run it as");
        let peers = peers();
        let copy = home.path().join(Path::new(program).file_name().expect("a name"));
        fs::copy(peers.join(program), &copy).expect("the program");
        fs::create_dir(home.path().join("lib")).expect("a folder");
        // either folder, by the machine's own name
        let libraries =
            ["lib", "usr/lib"].iter().flat_map(|at| fs::read_dir(peers.join(at)).into_iter().flatten().flatten());
        let all = libraries.flat_map(|folder| fs::read_dir(folder.path()).into_iter().flatten().flatten());
        for entry in all.filter(|entry| entry.file_name().to_string_lossy().contains(".so")) {
            fs::copy(entry.path(), home.path().join("lib").join(entry.file_name())).expect("a library");
        }
        (home, user, copy)
    }

    fn start(home: (tempfile::TempDir, Option<User>, PathBuf), port: u16, arguments: &[String]) -> Self {
        let (home, user, program) = home;
        let mut gate = Self { port, child: None, home, user, program, arguments: arguments.to_vec() };
        gate.start_again();
        gate
    }

    /// Starts it where it does not run, and waits until it answers.
    ///
    /// # Panics
    /// If it does not start.
    pub fn start_again(&mut self) {
        let log = fs::File::create(self.home.path().join("log")).expect("a log");
        let child = as_user(&self.program, self.user.as_ref())
            .args(&self.arguments)
            .env("LD_LIBRARY_PATH", self.home.path().join("lib"))
            .stdout(log.try_clone().expect("a log"))
            .stderr(log)
            .spawn();
        self.child = Some(child.expect("the program runs"));
        let since = Instant::now();
        while TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            let log = || fs::read_to_string(self.home.path().join("log")).unwrap_or_default();
            assert!(since.elapsed() < Duration::from_secs(10), "{} does not answer: {}", self.program.display(), log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Ends it at once, with all that goes through it.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            let mut all = vec![child.id().to_string()];
            // what carries a session has a group of its own, and children
            let mut seen = 0;
            while let Some(parent) = all.get(seen) {
                let children = Command::new("pgrep").args(["-P", parent]).output().map(|o| o.stdout).unwrap_or_default();
                all.extend(String::from_utf8_lossy(&children).split_whitespace().map(str::to_owned));
                seen += 1;
            }
            let _ = Command::new("kill").arg("-9").args(&all).stderr(Stdio::null()).status();
            let _ = child.wait();
        }
    }

    /// A proxy that is asked by `CONNECT`, for whoever is [`LOGIN`].
    ///
    /// # Panics
    /// If it does not start.
    #[must_use]
    pub fn http() -> Self {
        let home = Self::home("usr/bin/tinyproxy");
        let port = free_port().expect("a port");
        let (user, password) = LOGIN;
        let written = home.0.path().join("settings");
        let settings = format!("Port {port}\nListen 127.0.0.1\nTimeout 600\nMaxClients 100\nBasicAuth {user} {password}\n");
        fs::write(&written, settings).expect("its settings");
        Self::start(home, port, &["-d".into(), "-c".into(), written.display().to_string()])
    }

    /// A SOCKS5 proxy for whoever is [`LOGIN`].
    ///
    /// # Panics
    /// If it does not start.
    #[must_use]
    pub fn socks() -> Self {
        let port = free_port().expect("a port");
        let (user, password) = LOGIN;
        let arguments = ["-i", "127.0.0.1", "-p", &port.to_string(), "-u", user, "-P", password].map(str::to_owned);
        Self::start(Self::home("usr/bin/microsocks"), port, &arguments)
    }

    /// An SSH server that takes one key.
    ///
    /// # Panics
    /// If it does not start.
    #[must_use]
    pub fn ssh() -> SshServer {
        let home = Self::home("usr/sbin/sshd");
        let at = |name: &str| home.0.path().join(name);
        let make = |name: &str, sort: &str, password: &str| {
            let (private, public) = key_pair(name, sort, password);
            fs::write(at(name), &private).expect("a key");
            fs::set_permissions(at(name), fs::Permissions::from_mode(0o600)).expect("a key of one's own");
            let owner = home.1.as_ref();
            chown(at(name), owner.map(|user| user.uid), owner.map(|user| user.gid)).expect("a key is handed over");
            (private, public)
        };
        let host_keys = ["ed25519", "ecdsa", "rsa"].map(|sort| make(&format!("host-{sort}"), sort, "").1).to_vec();
        let (key, public) = make("login", "ed25519", "");
        let (locked_key, locked_public) = make("locked", "ecdsa", LOCKED_WITH);
        let (rsa_key, rsa_public) = make("rsa", "rsa", "");
        fs::write(at("authorized"), format!("{public}\n{locked_public}\n{rsa_public}\n")).expect("who may log in");
        let port = free_port().expect("a port");
        let settings = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nHostKey {}\nHostKey {}\nAuthorizedKeysFile {}\nPidFile none\nStrictModes no\n\
             UsePAM no\nPasswordAuthentication yes\nMaxStartups 3\n",
            at("host-ed25519").display(),
            at("host-ecdsa").display(),
            at("host-rsa").display(),
            at("authorized").display(),
        );
        fs::write(at("settings"), settings).expect("its settings");
        let name = match &home.1 {
            Some(_) => "postgres".to_owned(),
            None => {
                String::from_utf8_lossy(&Command::new("id").arg("-un").output().expect("a user").stdout).trim().to_owned()
            }
        };
        let arguments = ["-D", "-e", "-f", &at("settings").display().to_string()].map(str::to_owned);
        let gate = Self::start(home, port, &arguments);
        SshServer { gate, user: name, key, locked_key, rsa_key, host_keys }
    }
}

/// A private key and its public one, as OpenSSH writes them. Large primes take seconds to find: one pair of a name is made for all servers
/// of a process.
fn key_pair(name: &str, sort: &str, password: &str) -> (String, String) {
    static LARGE: Mutex<BTreeMap<String, (String, String)>> = Mutex::new(BTreeMap::new());
    let mut large = LARGE.lock().expect("none that made a key panicked");
    if let Some(pair) = large.get(name) {
        return pair.clone();
    }
    let room = tempfile::tempdir().expect("a temporary folder");
    let at = room.path().join("key");
    let made = Command::new("ssh-keygen").args(["-q", "-t", sort, "-N", password, "-C", name, "-f"]).arg(&at).status();
    assert!(made.expect("ssh-keygen").success(), "a key cannot be made");
    let read = |path: &Path| fs::read_to_string(path).expect("a key").trim().to_owned();
    let pair = (format!("{}\n", read(&at)), read(&at.with_extension("pub")));
    if sort == "rsa" {
        large.insert(name.to_owned(), pair.clone());
    }
    pair
}

impl Drop for Gate {
    fn drop(&mut self) {
        self.kill();
    }
}
