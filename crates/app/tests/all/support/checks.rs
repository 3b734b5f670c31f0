//! Whether what was carried is what there was.

use gonvel_stand_ins::test_cluster::TestCluster;

use super::Gonvel;

/// How many rows a table has, and a digest of them.
pub async fn rows(cluster: &TestCluster, database: &str, table: &str) -> Option<(i64, String)> {
    let client = cluster.connect(database).await.ok()?;
    let statement = format!("SELECT count(*), coalesce(md5(string_agg(t::text, E'\\n' ORDER BY id)), '') FROM {table} t");
    let row = client.query_one(&statement, &[]).await.ok()?;
    Some((row.get(0), row.get(1)))
}

/// Every change's place in the source stands once in the topic, and folding it gives as many rows as the source has. A row is loaded
/// once, unless its table was loaded `again`.
pub async fn no_change_stands_twice(gonvel: &Gonvel, topic: &str, rows: i64, again: bool) -> usize {
    let mut seen = std::collections::HashSet::new();
    let mut folded = std::collections::HashSet::new();
    let partitions = gonvel.get(&format!("/topics/{topic}")).await.unwrap()["partitions"].as_i64().unwrap();
    for partition in 0..partitions {
        let (mut offset, mut cursor, mut of_partition) = (0, String::new(), std::collections::HashSet::new());
        loop {
            let path = format!("/topics/{topic}/records?order=oldest&partition={partition}&limit=500{cursor}");
            let page = gonvel.get(&path).await.unwrap();
            for record in page["items"].as_array().unwrap() {
                assert_eq!(record["offset"], offset, "offsets have a gap");
                offset += 1;
                let value = &record["value"];
                // it stands in every partition
                if again && value["change"] == "truncate" {
                    of_partition.clear();
                    continue;
                }
                let place = match value["change"].as_str().unwrap() {
                    "load" => format!("load {}", record["key"]),
                    kind => format!("{kind} {} {}", value["origin"]["position"], value["origin"]["sequence"]),
                };
                let twice = !seen.insert(place.clone());
                assert!(!twice || (again && value["change"] == "load"), "{place} stands twice");
                if value["change"] == "delete" {
                    of_partition.remove(&record["key"].to_string());
                } else {
                    of_partition.insert(record["key"].to_string());
                }
            }
            let Some(next) = page["next"].as_str() else { break };
            cursor = format!("&cursor={next}");
        }
        folded.extend(of_partition);
    }
    assert_eq!(folded.len(), usize::try_from(rows).unwrap(), "{topic} folds to other rows");
    seen.len()
}
