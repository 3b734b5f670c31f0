//! Tables that a source captures because of their names.

use super::CapturedTable;
use crate::naming::TopicName;
use crate::table_patterns::{TablePatterns, topic_for};

impl TablePatterns {
    /// A table as it is captured because of its name, or why it is not though it is meant; none where it is not meant. `system` is
    /// the system's name and the schema that its tables usually are in; `taken` tells the topics that others write.
    pub fn find(
        &self,
        system: (&str, &str),
        (schema, table): (&str, &str),
        taken: impl FnOnce(&str) -> bool,
    ) -> Option<Result<CapturedTable, String>> {
        if !self.covers(schema, table) {
            return None;
        }
        let topic = topic_for(&self.topic, system, schema, table);
        Some(match TopicName::parse(topic.as_str()) {
            Err(cause) => Err(format!("its topic cannot be called {topic}: {cause}")),
            Ok(_) if taken(&topic) => {
                Err(format!("its topic would be {topic}, which is taken: choose it by itself, with another topic"))
            }
            Ok(_) => Ok(CapturedTable::whole(schema, table, &topic)),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_found_with_a_topic_of_its_own() {
        let patterns = |topic: &str| TablePatterns { include: vec!["b*".into()], exclude: vec![], topic: topic.into() };
        let find = |topic: &str, table: &str| {
            patterns(topic).find(("packhouse", "public"), ("public", table), |topic| topic == "packhouse.blocks")
        };
        let bins = CapturedTable::whole("public", "bins", "packhouse.bins");
        assert_eq!(find("{system}.{table}", "bins"), Some(Ok(bins)));
        assert_eq!(find("{system}.{table}", "lots"), None);
        let said = |topic: &str, table: &str| find(topic, table).unwrap().unwrap_err();
        assert!(said("{system}.{table}", "blocks").contains("would be packhouse.blocks, which is taken"));
        assert!(said("{table}", &"b".repeat(300)).contains("its topic cannot be called"));
    }
}
