//! Whatever a session asks of a real server, it is owed an answer until the last of it came, and nothing after that.

use std::time::{Duration, Instant};

use bytes::Bytes;
use futures::{SinkExt, StreamExt};
use gonvel_stand_ins::postgres_cluster::OWNER;
use gonvel_stand_ins::test_cluster::TestCluster;
use gonvel_wire::{Heard, KEEPALIVE, Listening, Owed, dial};
use tokio_postgres::{Client, Config, NoTls};

const LINES: &str = "COPY bins (id) FROM STDIN";

async fn session(cluster: &TestCluster) -> (Client, Owed) {
    let stream = dial("127.0.0.1", cluster.port, KEEPALIVE).await.unwrap();
    let heard = Heard::of(stream, Listening { silence: None, refused: |_| {} });
    let owed = heard.owed();
    let mut config = Config::new();
    config.dbname("packhouse").user(OWNER).password(&cluster.password);
    let (client, connection) = config.connect_raw(heard, NoTls).await.unwrap();
    tokio::spawn(connection);
    (client, owed)
}

/// Copies lines in; to the end, or given up before it.
async fn copy(client: &Client, lines: &'static [u8], to_the_end: bool) -> Result<u64, tokio_postgres::Error> {
    let mut sink = Box::pin(client.copy_in::<_, Bytes>(LINES).await?);
    sink.send(Bytes::from_static(lines)).await?;
    if to_the_end { sink.as_mut().finish().await } else { Ok(0) }
}

/// Nothing is owed, at the latest when what is asked on the way, as to close a statement, is answered too.
async fn nothing(owed: &Owed, after: &str) {
    let start = Instant::now();
    while owed.lasts().is_some() {
        assert!(start.elapsed() < Duration::from_secs(5), "something is owed after {after}");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_owed_once_all_that_was_asked_is_answered() {
    let cluster = TestCluster::start(&["packhouse"]).await;
    let (mut client, owed) = session(&cluster).await;
    client.batch_execute("CREATE TABLE bins (id bigint PRIMARY KEY)").await.unwrap();
    nothing(&owed, "a query").await;

    client.query("SELECT $1::int", &[&1]).await.unwrap();
    client.query("SELECT 1 / $1::int", &[&0]).await.unwrap_err();
    nothing(&owed, "a statement that is refused").await;

    let two = [client.query("SELECT pg_sleep(0.05)", &[]), client.query("SELECT pg_sleep(0.05)", &[])];
    futures::future::join_all(two).await.into_iter().for_each(|answer| drop(answer.unwrap()));
    nothing(&owed, "two that were asked together").await;

    assert_eq!(copy(&client, b"1\n2\n", true).await.unwrap(), 2);
    nothing(&owed, "lines copied in").await;
    copy(&client, b"3\nred\n", true).await.unwrap_err();
    nothing(&owed, "a line that is refused").await;
    copy(&client, b"4\n", false).await.unwrap();
    client.query("SELECT 1", &[]).await.unwrap();
    nothing(&owed, "copying that was given up").await;

    const MANY: &str = "COPY (SELECT generate_series(1, 50000)) TO STDOUT";
    let mut lines = Box::pin(client.copy_out(MANY).await.unwrap());
    while let Some(line) = lines.next().await {
        line.unwrap();
    }
    nothing(&owed, "lines copied out").await;
    drop(client.copy_out(MANY).await.unwrap());
    client.query("SELECT 1", &[]).await.unwrap();
    nothing(&owed, "copying out that nobody reads to its end").await;

    let transaction = client.transaction().await.unwrap();
    transaction.execute("INSERT INTO bins VALUES (9)", &[]).await.unwrap();
    drop(transaction);
    assert_eq!(client.query("SELECT id FROM bins", &[]).await.unwrap().len(), 2);
    nothing(&owed, "a transaction that was given up").await;

    let asked = client.query("SELECT pg_sleep(0.2)", &[]);
    let during = async {
        tokio::time::sleep(Duration::from_millis(100)).await;
        assert!(owed.lasts().is_some(), "while it is at work");
    };
    tokio::join!(asked, during).0.unwrap();
    nothing(&owed, "all of it").await;

    // this client's sessions are of no use after that
    client.batch_execute("DROP TABLE bins").await.unwrap();
    copy(&client, b"5\n", true).await.unwrap_err();
    nothing(&owed, "copying into what is not there").await;
}
