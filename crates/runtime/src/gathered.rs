//! What a source's lane has captured and not appended yet, and the append under way.

use gonvel_core::ports::PortError;
use gonvel_core::ports::systems::ConnectorError;
use tokio::task::JoinHandle;

use crate::failing::Failure;
use crate::outgoing::Blocks;
use crate::source_position::Position;

/// An append under way, and what it brings.
pub(crate) struct UnderWay {
    pub(crate) append: JoinHandle<Result<(), PortError>>,
    pub(crate) brings: Position,
    pub(crate) latest_us: Option<i64>,
}

/// What was captured while an append is under way: it goes in together when that is done, so that a burst of transactions waits
/// for two appends at most.
#[derive(Default)]
pub(crate) struct Gathered {
    pub(crate) parts: Blocks,
    pub(crate) latest_us: Option<i64>,
    /// Bytes before compression, and how many of them others follow in this process.
    bytes: usize,
    pub(crate) followed: usize,
    pub(crate) has_some: bool,
    pub(crate) last: bool,
}

/// Bytes before compression that are gathered, after which the append under way is waited for.
const GATHERED: usize = 1 << 20;

impl Gathered {
    pub(crate) fn add(&mut self, parts: Blocks, latest_us: Option<i64>, last: bool) {
        for part in &parts {
            let bytes: usize = part.blocks.blocks.iter().map(|b| b.unpacked).sum();
            self.bytes += bytes;
            self.followed += if part.changes.is_some() { bytes } else { 0 };
        }
        self.parts.extend(parts);
        self.latest_us = self.latest_us.max(latest_us);
        self.last |= last;
        self.has_some = true;
    }

    pub(crate) fn is_enough(&self) -> bool {
        self.last || self.bytes >= GATHERED
    }
}

/// Cancel safety: dropped while waiting, the append stays under way.
pub(crate) async fn finished(under_way: &mut Option<UnderWay>) -> Result<(Position, Option<i64>), Failure> {
    let Some(running) = under_way else { return std::future::pending().await };
    let outcome = (&mut running.append).await;
    let Some(UnderWay { brings, latest_us, .. }) = under_way.take() else { return std::future::pending().await };
    match outcome {
        Ok(Ok(())) => Ok((brings, latest_us)),
        Ok(Err(error)) => Err(error.into()),
        Err(error) => Err(ConnectorError::Defect(error.to_string()).into()),
    }
}
