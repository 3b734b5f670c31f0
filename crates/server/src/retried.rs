//! What a request that appends was answered, for whoever sends it again: the answer is the same, whatever has changed since.

use std::collections::BTreeMap;

use bytes::Bytes;
use gonvel_core::avro::container::{pack, unpack};
use gonvel_core::ports::{Answered, Identity, Landed, PortError, TopicLog};
use gonvel_http_api::{Appended, Produced, RefusedRecord};
use serde::{Deserialize, Serialize};

use crate::state::ServerState;

/// Largest form of what is kept, unpacked, in bytes.
const LARGEST: usize = 64 << 20;

/// What is kept of an answer beside where its records landed.
#[derive(Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Told {
    /// The partition of each record that was appended, in the order of the request.
    pub order: Vec<i32>,
    /// The others.
    pub refused: Vec<RefusedRecord>,
}

impl Told {
    /// As it is kept; none where it follows from where the records landed.
    #[must_use]
    pub fn kept(&self) -> Option<Bytes> {
        if self.refused.is_empty() && self.order.windows(2).all(|two| two[0] == two[1]) {
            return None;
        }
        pack(&serde_json::to_vec(self).ok()?).ok().map(Bytes::from)
    }

    #[must_use]
    pub fn read(kept: &[u8]) -> Option<Self> {
        serde_json::from_slice(&unpack(kept, LARGEST).ok()?).ok()
    }

    /// The answer.
    #[must_use]
    pub fn answer(self, landed: &[Landed]) -> Produced {
        Produced { records: in_order(&self.order, landed), refused: self.refused }
    }
}

/// The place of each record in the order of the request.
fn in_order(partitions: &[i32], landed: &[Landed]) -> Vec<Appended> {
    let mut next: BTreeMap<i32, i64> = landed.iter().map(|l| (l.to.partition.0, l.first.0)).collect();
    let one = |partition: &i32| {
        let offset = next.entry(*partition).or_default();
        *offset += 1;
        Appended { partition: *partition, offset: *offset - 1 }
    };
    partitions.iter().map(one).collect()
}

/// What a request was answered when it came first; none if it comes first now, or that is not kept any more.
///
/// # Errors
/// If another request had its key or its sequence.
pub(crate) async fn again(state: &ServerState, identity: Option<&Identity>) -> Result<Option<Produced>, PortError> {
    let Some(identity) = identity else { return Ok(None) };
    let Some(Answered { landed, told }) = state.database.answered(identity).await? else { return Ok(None) };
    let told = told.as_deref().and_then(Told::read).unwrap_or_else(|| {
        let each = |l: &Landed| std::iter::repeat_n(l.to.partition.0, usize::try_from(l.records).unwrap_or(0));
        Told { order: landed.iter().flat_map(each).collect(), refused: Vec::new() }
    });
    Ok(Some(told.answer(&landed)))
}
