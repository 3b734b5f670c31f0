//! A PostgreSQL cluster for one test.

use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::Command;

use base64::Engine;
use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};

use crate::postgres_cluster::{Cluster, ClusterOptions, free_port, laid};

/// A cluster for one test: on a free port, in a folder that goes with it, without waiting for disks.
pub struct TestCluster {
    cluster: Option<Cluster>,
    options: ClusterOptions,
    // before its folder, which cannot go while it is there
    small: Option<SmallDisk>,
    home: tempfile::TempDir,
}

/// A replica of a test's cluster that was cut off from it: it lacks what came since.
pub struct CutOff {
    small: Option<SmallDisk>,
    home: tempfile::TempDir,
}

/// A file system in a folder, with little room; it goes with what has it.
struct SmallDisk {
    at: PathBuf,
    mib: u32,
}

impl SmallDisk {
    /// None where this user may make none.
    fn make(at: &Path, mib: u32) -> Option<Self> {
        let options = format!("size={mib}m,mode=755");
        let made = Command::new("mount").args(["-t", "tmpfs", "-o", &options, "tmpfs"]).arg(at).output().ok()?;
        made.status.success().then(|| Self { at: at.into(), mib })
    }

    fn filler(&self) -> PathBuf {
        self.at.join("filler")
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.at).status();
    }
}

fn new_home() -> tempfile::TempDir {
    let home = tempfile::Builder::new().prefix("gonvel-test").tempdir_in(std::env::temp_dir()).expect("a temporary folder");
    fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755)).expect("a folder of one's own");
    home
}

impl TestCluster {
    /// Starts one with these databases.
    ///
    /// # Panics
    /// If it does not start: a test must not pass without it.
    pub async fn start(databases: &[&str]) -> Self {
        Self::start_with(databases, &[]).await
    }

    /// The same with settings of its own.
    ///
    /// # Panics
    /// If it does not start.
    pub async fn start_with(databases: &[&str], settings: &[&str]) -> Self {
        Self::start_on(databases, settings, None).await
    }

    /// The same on a disk of its own of so many MiB, where this user may make one.
    ///
    /// # Panics
    /// If it does not start.
    pub async fn start_on(databases: &[&str], settings: &[&str], mib: Option<u32>) -> Self {
        let home = new_home();
        let small = mib.and_then(|mib| SmallDisk::make(home.path(), mib));
        copy_template(home.path());
        let mut all = vec!["fsync=off".to_owned(), "shared_buffers=128MB".to_owned()];
        all.extend(settings.iter().map(|s| (*s).to_owned()));
        let mut options = ClusterOptions { home: home.path().into(), port: 0, settings: all };
        let mut tries = 0;
        let cluster = loop {
            options.port = free_port().expect("a free port");
            match Cluster::start(&options).await {
                Ok(cluster) => break cluster,
                // a port that was free a moment ago may be another test's by now
                Err(error) if tries == 3 => panic!("PostgreSQL does not start: {error}"),
                Err(_) => tries += 1,
            }
        };
        for name in databases {
            cluster.ensure_database(name).await.expect("a new database");
        }
        Self { cluster: Some(cluster), options, small, home }
    }

    /// Lets the server encrypt sessions with a certificate and its key, as PEM text; without them it stops doing so.
    ///
    /// # Panics
    /// If it does not.
    pub async fn encrypt(&self, certificate: Option<(&str, &str)>) {
        let client = self.connect("postgres").await.expect("a session");
        if let Some((certificate, key)) = certificate {
            for (name, text) in [("server.crt", certificate), ("server.key", key)] {
                self.write(name, |_| text.to_owned());
            }
        }
        // another certificate is only seen to be in force by way of none
        self.switch_ssl(&client, "off").await;
        if certificate.is_some() {
            self.switch_ssl(&client, "on").await;
        }
    }

    /// Lets a user in only with a certificate that names it and that this authority signed, and encrypted with the server's own.
    ///
    /// # Panics
    /// If it does not.
    pub async fn ask_for_certificate(&self, user: &str, authority: &str, own: (&str, &str)) {
        let client = self.connect("postgres").await.expect("a session");
        self.write("root.crt", |_| authority.to_owned());
        client.batch_execute("ALTER SYSTEM SET ssl_ca_file = 'root.crt'").await.expect("the setting");
        let lines = |kind: &str| format!("{kind} all {user} all cert\n{kind} replication {user} all cert\n");
        let no_others = lines("hostnossl").replace("cert", "reject");
        self.write("pg_hba.conf", |before| format!("{}{no_others}{before}", lines("hostssl")));
        self.encrypt(Some(own)).await;
    }

    /// Writes a file of the server's folder.
    fn write(&self, name: &str, text: impl FnOnce(String) -> String) {
        let data = &self.cluster.as_ref().expect("a cluster").data;
        let (path, owner) = (data.join(name), fs::metadata(data).expect("its folder"));
        fs::write(&path, text(fs::read_to_string(&path).unwrap_or_default())).expect("a file in its folder");
        fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).expect("a file of its own");
        std::os::unix::fs::chown(&path, Some(owner.uid()), Some(owner.gid())).expect("a file of its own");
    }

    async fn switch_ssl(&self, client: &tokio_postgres::Client, to: &str) {
        client.batch_execute(&format!("ALTER SYSTEM SET ssl = {to}")).await.expect("the setting");
        client.batch_execute("SELECT pg_reload_conf()").await.expect("a reload");
        // it reaches new sessions a moment later
        for _ in 0..200 {
            let fresh = self.connect("postgres").await.expect("a session");
            if fresh.query_one("SHOW ssl", &[]).await.expect("the setting").get::<_, &str>(0) == to {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("ssl does not become {to}");
    }

    /// A replica that streamed up to now, and is then cut off.
    ///
    /// # Panics
    /// If it does not come up.
    pub async fn replica_cut_off(&self) -> CutOff {
        let home = new_home();
        let small = self.small.as_ref().and_then(|small| SmallDisk::make(home.path(), small.mib));
        self.replica(home.path()).expect("a copy of the cluster");
        let port = free_port().expect("a free port");
        let options = ClusterOptions { home: home.path().into(), port, settings: self.options.settings.clone() };
        let replica = Cluster::start(&options).await.expect("the replica starts");
        let client = self.connect("postgres").await.expect("a session");
        let end = client.query_one("SELECT pg_current_wal_lsn()::text", &[]).await.expect("the log's end");
        let there = replica.connect("postgres").await.expect("a session with the replica");
        let has = "SELECT coalesce(pg_last_wal_replay_lsn() >= $1::text::pg_lsn, false)";
        for _ in 0..400 {
            if there.query_one(has, &[&end.get::<_, &str>(0)]).await.expect("how far it is").get(0) {
                replica.stop().expect("the replica stops");
                return CutOff { small, home };
            }
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
        panic!("the replica does not follow");
    }

    /// The server crashes, and a replica that was cut off takes over at its address.
    ///
    /// # Panics
    /// If it does not.
    pub async fn fail_over(&mut self, to: CutOff) {
        drop(self.cluster.take());
        self.options.home = to.home.path().into();
        let cluster = Cluster::start(&self.options).await.expect("the replica starts");
        let client = cluster.connect("postgres").await.expect("a session");
        client.query_one("SELECT pg_promote(true)", &[]).await.expect("it takes over");
        self.cluster = Some(cluster);
        // the former one goes before its folder does
        self.small = to.small;
        self.home = to.home;
    }

    /// Takes all room that is left on its disk; false if it has none of its own.
    ///
    /// # Panics
    /// If nothing can be written there at all.
    pub fn fill_disk(&self) -> bool {
        let Some(small) = &self.small else { return false };
        let mut filler = fs::File::create(small.filler()).expect("a file on its disk");
        let piece = vec![1; 1 << 20];
        while filler.write_all(&piece).is_ok() {}
        // and what is less than a piece
        while filler.write_all(&piece[..4096]).is_ok() {}
        true
    }

    /// Gives it back, and starts the server again if it ended for want of room.
    ///
    /// # Panics
    /// If it does not come back.
    pub async fn make_room(&mut self) {
        let Some(small) = &self.small else { return };
        fs::remove_file(small.filler()).expect("the filler goes");
        for _ in 0..20 {
            if self.connect("postgres").await.is_ok() {
                return;
            }
            tokio::time::sleep(std::time::Duration::from_millis(250)).await;
        }
        drop(self.cluster.take());
        self.cluster = Some(Cluster::start(&self.options).await.expect("PostgreSQL comes back"));
    }

    /// Stops every process of the server where it is, or lets them go on.
    ///
    /// # Panics
    /// If it does not run.
    pub fn freeze(&self, frozen: bool) {
        let pid = fs::read_to_string(self.data.join("postmaster.pid")).expect("it runs");
        let pid = pid.lines().next().unwrap_or_default().trim().to_owned();
        // no session is made meanwhile: who makes them is stopped first, and goes on last
        if frozen {
            signal("STOP", std::slice::from_ref(&pid));
        }
        let all = children(&pid);
        signal(if frozen { "STOP" } else { "CONT" }, &all);
        if !frozen {
            signal("CONT", &[pid]);
        }
    }

    /// Stops the server as a crash would and starts it again.
    ///
    /// # Panics
    /// If it does not come back.
    pub async fn crash_and_restart(&mut self) {
        let cluster = self.cluster.take().expect("it runs");
        self.cluster = Some(cluster.crash_and_restart(&self.options).await.expect("PostgreSQL comes back"));
    }
}

/// Sends processes a signal, by its name; those that are gone get none.
fn signal(name: &str, to: &[String]) {
    let _ = Command::new("sh").arg("-c").arg(format!("kill -{name} {} 2> /dev/null", to.join(" "))).status();
}

/// The processes that one has made.
fn children(of: &str) -> Vec<String> {
    let parent = |pid: &str| {
        let told = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
        // its name, in brackets, may hold anything
        told.rsplit_once(") ")?.1.split(' ').nth(1).map(str::to_owned)
    };
    let all = fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(|entry| entry.file_name().into_string().ok());
    all.filter(|pid| pid.parse::<u32>().is_ok() && parent(pid).as_deref() == Some(of)).collect()
}

/// A new cluster's data in a folder: copied from one that was made once for all tests of this user, since making it anew takes
/// some twenty times as long.
///
/// # Panics
/// If it cannot be made or copied.
fn copy_template(home: &Path) {
    let template = template();
    let from = ["postgres", "pgpass"].map(|name| template.join(name));
    let copied = Command::new("cp").arg("-a").args(from).arg(home).status().expect("cp runs");
    assert!(copied.success(), "{} cannot be copied to {}", template.display(), home.display());
}

/// The data of a cluster that was never started. Whoever makes it makes it whole or not at all.
fn template() -> PathBuf {
    let owner = fs::metadata("/proc/self").expect("/proc").uid();
    let version = fs::read_dir("/usr/lib/postgresql").into_iter().flatten().filter_map(Result::ok);
    let version = version.filter_map(|e| e.file_name().to_str()?.parse::<u32>().ok()).max().unwrap_or_default();
    let there = PathBuf::from(format!("/tmp/gonvel-test-template-{owner}-{version}-quick"));
    if !there.exists() {
        let fresh = tempfile::Builder::new().prefix("gonvel-test-template").tempdir_in("/tmp").expect("a temporary folder");
        fs::set_permissions(fresh.path(), fs::Permissions::from_mode(0o755)).expect("a folder of one's own");
        laid(fresh.path(), soon_proved).expect("PostgreSQL's initdb");
        // another test may have been faster: then its own stays, and this one goes
        if fs::rename(fresh.path(), &there).is_ok() {
            let _ = fresh.keep();
        }
    }
    there
}

/// What a cluster is to know of a password so that it is proved by one round of hashing instead of 4,096, which a test would do for
/// each of its sessions: a stored key and a server's key (RFC 5802, section 3).
fn soon_proved(password: &str) -> String {
    let signed = |key: &[u8], text: &[u8]| {
        let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key of any length");
        mac.update(text);
        mac.finalize().into_bytes()
    };
    let salt = *b"sixteen bytes of";
    // with one round, what is salted is the signature of the salt and the number of the block
    let salted = signed(password.as_bytes(), &[salt.as_slice(), &[0, 0, 0, 1]].concat());
    let stored = Sha256::digest(signed(&salted, b"Client Key"));
    let base64 = |bytes: &[u8]| base64::engine::general_purpose::STANDARD.encode(bytes);
    format!("SCRAM-SHA-256$1:{}${}:{}", base64(&salt), base64(&stored), base64(&signed(&salted, b"Server Key")))
}

impl std::ops::Deref for TestCluster {
    type Target = Cluster;

    fn deref(&self) -> &Cluster {
        self.cluster.as_ref().expect("it runs")
    }
}
