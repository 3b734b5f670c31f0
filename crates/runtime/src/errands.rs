//! What servers ask of systems on a person's behalf: carried out here, or by a runner of the system's place.

use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use gonvel_connectors::kinds::{holds, kind, sink, source, tables};
use gonvel_core::naming::RunnerName;
use gonvel_core::planning::Labels;
use gonvel_core::ports::systems::ConnectorError;
use gonvel_core::ports::{Address, Answer, Errand, ErrandStore, Errands, Outcome, TakenErrand};
use gonvel_core::rows_told::told;

/// How often a runner looks for errands.
const LOOK: Duration = Duration::from_millis(200);

/// Carries errands out from this process.
#[derive(Debug, Clone, Copy)]
pub struct Here;

#[async_trait]
impl Errands for Here {
    async fn carry_out(&self, address: &Address, errand: Errand) -> Result<Answer, ConnectorError> {
        Ok(match errand {
            Errand::Test => Answer::Report(kind(&address.kind)?.test(address).await),
            Errand::Mend(statement) => {
                kind(&address.kind)?.mend(address, &statement).await?;
                Answer::Done
            }
            Errand::Tables => Answer::Tables(tables(address)?.list(address).await?),
            Errand::Describe(table) => Answer::Shape(tables(address)?.describe(address, &table).await?),
            Errand::Sample(table, values) => Answer::Sample(tables(address)?.sample(address, &table, values).await?),
            Errand::Rows(table, most) => Answer::Rows(told(&tables(address)?.rows(address, &table, most).await?)),
            Errand::RowsByKey(table, keys) => {
                Answer::Rows(told(&tables(address)?.rows_by_key(address, &table, &keys).await?))
            }
            Errand::OfSource(definition, connector) => {
                Answer::Report(source(address)?.preflight(address, &definition, connector).await)
            }
            Errand::OfSink(expected, writes) => Answer::Report(sink(address)?.preflight(address, &expected, writes).await),
            Errand::Choose(definition) => {
                Answer::Chosen(source(address)?.open(address).await?.choose(&definition).await?.tables)
            }
            Errand::Place(connector) => Answer::Place(source(address)?.place(address, connector).await?),
            Errand::GoesOn(connector, stored) => {
                crate::source_position::check_stored(address, connector, &stored).await?;
                Answer::Done
            }
            Errand::Stands(connector) => {
                Answer::Stands(holds(address)?.stands(address, connector).await?.into_iter().collect())
            }
        })
    }
}

/// Carries out what waits for a runner with these labels, for ever.
pub(crate) async fn run(store: Arc<dyn ErrandStore>, runner: RunnerName, labels: Labels) {
    loop {
        match store.take_errands(&runner, &labels).await {
            Ok(taken) => taken.into_iter().for_each(|errand| drop(tokio::spawn(carried_out(store.clone(), errand)))),
            Err(error) => {
                tracing::warn!(%error, "what servers ask could not be read");
                tokio::time::sleep(LOOK * 10).await;
            }
        }
        tokio::time::sleep(LOOK).await;
    }
}

async fn carried_out(store: Arc<dyn ErrandStore>, TakenErrand { id, address, errand }: TakenErrand) {
    let outcome = match Here.carry_out(&address, errand).await {
        Ok(answer) => Outcome::Answered(answer),
        Err(error) => Outcome::Failed((&error).into()),
    };
    if let Err(error) = store.answer_errand(id, &outcome).await {
        tracing::warn!(%error, "what a server asked could not be answered");
    }
}
