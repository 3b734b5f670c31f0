//! A database that falls silent without closing: nobody waits for ever, and what comes later goes on.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use gonvel_core::block::pack;
use gonvel_core::naming::{Offset, PartitionId, TopicName, TopicPartition};
use gonvel_core::ports::{AppendBatch, PartitionBlocks, PortError, TopicLog};
use gonvel_core::record::Record;
use gonvel_core::topic_settings::TopicSettings;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_storage::Database;
use gonvel_storage::reaching::{Address, Patience};
use gonvel_storage::sealing::Sealer;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// Carries bytes both ways, but for connections made before it was last told to fall silent: they stay open, and nothing comes of them.
struct Between {
    port: u16,
    made: Arc<AtomicUsize>,
    silent: Arc<AtomicUsize>,
}

impl Between {
    async fn start(to: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let (made, silent) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let (counted, until) = (made.clone(), silent.clone());
        tokio::spawn(async move {
            loop {
                let (near, _) = listener.accept().await.unwrap();
                let far = TcpStream::connect(("127.0.0.1", to)).await.unwrap();
                let number = counted.fetch_add(1, Ordering::SeqCst) + 1;
                let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
                tokio::spawn(carry(near_in, far_out, number, until.clone()));
                tokio::spawn(carry(far_in, near_out, number, until.clone()));
            }
        });
        Self { port, made, silent }
    }

    fn fall_silent(&self) {
        self.silent.store(self.made.load(Ordering::SeqCst), Ordering::SeqCst);
    }
}

async fn carry(
    mut from: tokio::net::tcp::OwnedReadHalf,
    mut to: tokio::net::tcp::OwnedWriteHalf,
    number: usize,
    silent: Arc<AtomicUsize>,
) {
    let mut bytes = vec![0; 64 << 10];
    while let Ok(some) = from.read(&mut bytes).await {
        if silent.load(Ordering::SeqCst) >= number {
            // held open, and swallowed
            continue;
        }
        if some == 0 || to.write_all(&bytes[..some]).await.is_err() {
            return;
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_silent_database_is_given_up_and_the_next_session_goes_on() {
    let cluster = TestCluster::start(&["gonvel"]).await;
    let between = Between::start(cluster.port).await;
    let url = cluster.url("gonvel").replace(&format!(":{}/", cluster.port), &format!(":{}/", between.port));
    let of = Duration::from_millis;
    let patience = Patience { connect: of(5_000), statement: of(1_000), silence: of(1_500) };
    let database = Database::open_at(Address::parse(&url).unwrap().patient(patience), Sealer::new(&[7; 32])).await.unwrap();
    let topic = database.create_topic(&TopicName::parse("bins").unwrap(), 1, &TopicSettings::default()).await.unwrap();
    let to = TopicPartition { topic: topic.id, partition: PartitionId(0) };
    let batch = || {
        let records = [Record { value: Some("russet".into()), ..Record::default() }];
        AppendBatch { parts: vec![PartitionBlocks { to, blocks: pack(&records) }], ..AppendBatch::default() }
    };
    database.append(batch()).await.unwrap();
    // a session that is idle owes nothing, and stays
    tokio::time::sleep(of(2_000)).await;
    let made = between.made.load(Ordering::SeqCst);
    database.append(batch()).await.unwrap();
    database.bounds(topic.id).await.unwrap();
    assert_eq!(between.made.load(Ordering::SeqCst), made, "a session was given up that was only idle");

    between.fall_silent();
    let start = Instant::now();
    let (appended, read) = tokio::join!(database.append(batch()), database.bounds(topic.id));
    assert!(matches!(appended, Err(PortError::TryAgain { .. })), "{appended:?}");
    assert!(matches!(read, Err(PortError::TryAgain { .. })), "{read:?}");
    assert!(start.elapsed() < Duration::from_secs(5), "{:?}", start.elapsed());
    // sessions that were in the pool are found out as they are used, each once
    let start = Instant::now();
    while database.append(batch()).await.is_err() || database.bounds(topic.id).await.is_err() {
        assert!(start.elapsed() < Duration::from_secs(20), "nothing goes on");
    }
    assert!(database.bounds(topic.id).await.unwrap()[0].next >= Offset(3));

    // a statement that the server would carry out for ever is given up by it
    let own = cluster.connect("gonvel").await.unwrap();
    own.batch_execute("BEGIN; LOCK TABLE topic_partitions IN ACCESS EXCLUSIVE MODE").await.unwrap();
    let start = Instant::now();
    let waited = database.bounds(topic.id).await;
    assert!(matches!(waited, Err(PortError::TryAgain { .. })) && start.elapsed() < Duration::from_secs(4), "{waited:?}");
    own.batch_execute("ROLLBACK").await.unwrap();
    database.append(batch()).await.unwrap();
}
