//! Systems as a server asks them: itself, or through a runner of the place that they are reached from.

use std::time::{Duration, Instant};

use async_trait::async_trait;
use gonvel_core::kinds::reaching::ONLY_WHERE;
use gonvel_core::planning::{Labels, labels_text};
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, Answer, Errand, ErrandState, ErrandStore, Errands, PortError, RunnerStore};
use gonvel_runtime::errands::Here;
use gonvel_runtime::systems;
use gonvel_runtime::topic_keys::with_keys;
use gonvel_storage::Database;
use uuid::Uuid;

/// How often it is looked for an answer.
const LOOK: Duration = Duration::from_millis(50);
/// How long a runner that is alive may take to begin.
const BEGINS: Duration = Duration::from_secs(5);
/// How long it may take in all.
const PATIENCE: Duration = Duration::from_secs(120);

/// Systems, wherever they are reached from.
pub(crate) struct Reached(pub(crate) Database);

/// An errand that is forgotten when nobody waits for it any more: whoever asked may have gone away.
struct Waiting<'d> {
    database: &'d Database,
    id: Uuid,
    done: bool,
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        if !self.done {
            let (database, id) = (self.database.clone(), self.id);
            tokio::spawn(async move { database.withdraw(id).await });
        }
    }
}

#[async_trait]
impl Errands for Reached {
    async fn carry_out(&self, address: &Address, errand: Errand) -> Result<Answer, ConnectorError> {
        let address = with_keys(&self.0, &self.0, address.clone()).await.map_err(stumbled)?;
        let labels = address.only_where();
        if labels.is_empty() {
            return Here.carry_out(&address, errand).await;
        }
        self.asked(&address, &labels, &errand).await
    }
}

impl Reached {
    async fn asked(&self, address: &Address, labels: &Labels, errand: &Errand) -> Result<Answer, ConnectorError> {
        let about = systems::kind(&address.kind)?.about();
        let there = |said: &Labels| labels.iter().all(|(name, value)| said.get(name) == Some(value));
        let runners = self.0.runners().await.map_err(stumbled)?;
        if !runners.iter().any(|runner| runner.alive && there(&runner.said.labels)) {
            return Err(nobody(labels, "is there"));
        }
        let id = self.0.ask_runners(labels, address, errand).await.map_err(stumbled)?;
        let mut waiting = Waiting { database: &self.0, id, done: false };
        let start = Instant::now();
        loop {
            match self.0.errand(id).await.map_err(stumbled)? {
                ErrandState::Done(outcome) => {
                    waiting.done = true;
                    return outcome.taken(&about);
                }
                ErrandState::Waiting if start.elapsed() > BEGINS => return Err(nobody(labels, "takes it on")),
                ErrandState::Taken if start.elapsed() > PATIENCE => return Err(nobody(labels, "has answered")),
                ErrandState::Gone => return Err(nobody(labels, "knows of it any more")),
                ErrandState::Waiting | ErrandState::Taken => tokio::time::sleep(LOOK).await,
            }
        }
    }
}

fn nobody(labels: &Labels, what: &str) -> ConnectorError {
    let options: Vec<String> = labels.iter().map(|(name, value)| format!("--label {name}={value}")).collect();
    ConnectorError::try_again(
        format!("the system is reached from {}, and no runner with these labels {what}", labels_text(labels)),
        format!("start one there (gonvel runner {}), or correct the labels", options.join(" ")),
    )
    .at(ONLY_WHERE)
}

fn stumbled(error: PortError) -> ConnectorError {
    ConnectorError::try_again(error.to_string(), "try again")
}
