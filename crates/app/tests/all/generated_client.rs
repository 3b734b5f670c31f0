//! A client of another language, made from the document by a generator that nobody here wrote, goes the way of an application.

use std::path::Path;
use std::process::Command;

use gonvel_stand_ins::postgres_cluster::free_port;
use gonvel_stand_ins::test_cluster::TestCluster;
use serde_json::json;

use crate::support::{Gonvel, THIS};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_client_made_from_the_document_goes_the_way_of_an_application() {
    let folder = tempfile::tempdir().unwrap();
    let document = folder.path().join("openapi.json");
    std::fs::write(&document, Command::new(THIS).arg("openapi").output().unwrap().stdout).unwrap();
    let own = Path::new(env!("CARGO_MANIFEST_DIR"));
    // target/api-client
    let tools = Path::new(THIS).ancestors().nth(2).unwrap().join("api-client");
    let made = Command::new(own.join("../../scripts/api-client.sh"))
        .args([&tools, &document, &folder.path().to_path_buf()])
        .output()
        .unwrap();
    let told = format!("{}{}", String::from_utf8_lossy(&made.stdout), String::from_utf8_lossy(&made.stderr));
    assert!(made.status.success(), "{told}");
    // what it leaves out it says; YAML is nothing that it reads
    let left_out = told.lines().filter(|line| line.starts_with("WARNING") || line.starts_with("Unable"));
    let left_out: Vec<_> = left_out.filter(|line| !line.contains("GET /api/v1/manifests ")).collect();
    assert!(left_out.is_empty(), "{told}");

    let cluster = TestCluster::start(&["gonvel", "settlement"]).await;
    let settlement = cluster.connect("settlement").await.unwrap();
    settlement.batch_execute("CREATE TABLE bins (bin bigint PRIMARY KEY, weight_kg bigint)").await.unwrap();
    let gonvel = Gonvel::serve(&cluster, folder.path(), free_port().unwrap()).await;
    let login = json!({"name": "settlement", "host": "127.0.0.1", "port": cluster.port, "database": "settlement", "user": "gonvel",
        "password": cluster.password});
    let went = Command::new(tools.join("bin/python"))
        .arg(own.join("tests/all/support/client.py"))
        .arg(folder.path())
        .args([gonvel.base.trim_end_matches("/api/v1"), &login.to_string()])
        .output()
        .unwrap();
    let told = format!("{}{}", String::from_utf8_lossy(&went.stdout), String::from_utf8_lossy(&went.stderr));
    assert!(went.status.success() && told.ends_with("done\n"), "{told}");
    let rows = settlement.query_one("SELECT count(*), sum(weight_kg)::bigint FROM bins", &[]).await.unwrap();
    assert_eq!((rows.get::<_, i64>(0), rows.get::<_, i64>(1)), (40, (0..40).map(|n| 10 + n).sum()));
}
