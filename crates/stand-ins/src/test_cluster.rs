//! A PostgreSQL cluster for one test.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};

use crate::postgres_cluster::{Cluster, ClusterOptions, free_port};

/// A cluster for one test: on a free port, in a folder that goes with it, without waiting for disks.
pub struct TestCluster {
    cluster: Option<Cluster>,
    options: ClusterOptions,
    _home: tempfile::TempDir,
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
        let home = tempfile::Builder::new().prefix("gonvel-test").tempdir_in("/tmp").expect("a temporary folder");
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755)).expect("a folder of one's own");
        let mut all = vec!["fsync=off".to_owned(), "shared_buffers=128MB".to_owned()];
        all.extend(settings.iter().map(|s| (*s).to_owned()));
        let options = ClusterOptions { home: home.path().into(), port: free_port().expect("a free port"), settings: all };
        let cluster = Cluster::start(&options).await.expect("PostgreSQL starts");
        for name in databases {
            cluster.ensure_database(name).await.expect("a new database");
        }
        Self { cluster: Some(cluster), options, _home: home }
    }

    /// Lets the server encrypt sessions with a certificate and its key, as PEM text; without them it stops doing so.
    ///
    /// # Panics
    /// If it does not.
    pub async fn encrypt(&self, certificate: Option<(&str, &str)>) {
        let client = self.connect("postgres").await.expect("a session");
        let data = client.query_one("SHOW data_directory", &[]).await.expect("its folder").get::<_, String>(0);
        let owner = fs::metadata(&data).expect("its folder");
        if let Some((certificate, key)) = certificate {
            for (name, text) in [("server.crt", certificate), ("server.key", key)] {
                let path = std::path::Path::new(&data).join(name);
                fs::write(&path, text).expect("a file in its folder");
                fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).expect("a file of its own");
                std::os::unix::fs::chown(&path, Some(owner.uid()), Some(owner.gid())).expect("a file of its own");
            }
        }
        // another certificate is only seen to be in force by way of none
        self.switch_ssl(&client, "off").await;
        if certificate.is_some() {
            self.switch_ssl(&client, "on").await;
        }
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

    /// Stops the server as a crash would and starts it again.
    ///
    /// # Panics
    /// If it does not come back.
    pub async fn crash_and_restart(&mut self) {
        let cluster = self.cluster.take().expect("it runs");
        self.cluster = Some(cluster.crash_and_restart(&self.options).await.expect("PostgreSQL comes back"));
    }
}

impl std::ops::Deref for TestCluster {
    type Target = Cluster;

    fn deref(&self) -> &Cluster {
        self.cluster.as_ref().expect("it runs")
    }
}
