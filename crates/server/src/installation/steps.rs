//! One step of making an installation what manifests say, by the same ways as a person takes.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::extract::State;
use gonvel_core::connector::{ValidConnector, Wish};
use gonvel_core::naming::{ConnectorId, ConnectorName, ReaderName, SchemaName, TopicName};
use gonvel_core::ports::{PortError, ReaderStore, TopicLog};
use gonvel_core::schemas::Rule;
use gonvel_http_api::{
    Action, ActionRequest, BindingRequest, ConnectionRequest, ConnectorRequest, FunctionRequest, NewReader, NewSchema,
    SchemaEdit, SchemaText as Text,
};
use gonvel_manifests::connector_text::{ConnectorText, Wished};
use gonvel_manifests::{ConnectionText, Deed, SchemaText, Step, Thing, TopicText, VersionText};
use uuid::Uuid;

use crate::addressed::{ConnectionAt, ConnectorAt};
use crate::creating::Creating;
use crate::manifests::names;
use crate::problems::{Body, Path, Refusal};
use crate::revisions::IfMatch;
use crate::state::ServerState;
use crate::who::Who;
use crate::{connections, connectors, edits, functions, readers, schemas, topics};

/// How long a step waits for what another one has begun: a topic that a connector makes, a connector's leaving its system.
const PATIENCE: Duration = Duration::from_secs(60);

/// The secrets of connections that were given, by connection and field.
pub(super) type Secrets = BTreeMap<String, BTreeMap<String, String>>;

/// Whoever carries steps out.
pub(super) struct Carrying {
    pub(super) state: Arc<ServerState>,
    pub(super) who: String,
    pub(super) secrets: Secrets,
}

fn not_there(what: &str, name: &str) -> Refusal {
    PortError::NotFound { what: format!("{what} {name}") }.into()
}

impl Carrying {
    fn state(&self) -> State<Arc<ServerState>> {
        State(Arc::clone(&self.state))
    }

    fn who(&self) -> Who {
        Who(self.who.clone())
    }

    /// Carries a step out.
    pub(super) async fn carry_out(&self, step: &Step) -> Result<(), Refusal> {
        match (step.deed, &step.thing) {
            (Deed::Make, Thing::Connection(text)) => {
                connections::create(self.state(), Creating::unkeyed(self.connection(text))).await.map(drop)
            }
            (Deed::Change, Thing::Connection(text)) => {
                let id = self.state.database.connection_named(&text.connection).await?;
                connections::replace(self.state(), ConnectionAt(id), IfMatch::Any, Body(self.connection(text)))
                    .await
                    .map(drop)
            }
            (Deed::Delete, Thing::Connection(text)) => {
                let id = self.state.database.connection_named(&text.connection).await?;
                connections::delete(&self.state, id).await
            }
            (Deed::Make | Deed::Change, Thing::Function(text)) => {
                let request = FunctionRequest { function: text.clone().into() };
                let place = Path(text.function.clone());
                functions::save(self.state(), place, self.who(), IfMatch::Any, Body(request)).await.map(drop)
            }
            (Deed::Delete, Thing::Function(text)) => functions::delete(&self.state, &text.function, &self.who()).await,
            (Deed::Make, Thing::Schema(text)) => self.make_schema(text).await,
            (Deed::Change, Thing::Schema(text)) => self.change_schema(text).await,
            (Deed::Delete, Thing::Schema(text)) => {
                schemas::delete(&self.state, &SchemaName::parse(text.schema.as_str())?).await
            }
            (Deed::Make, Thing::Topic(text)) => {
                let name = TopicName::parse(text.topic.as_str())?;
                self.state.database.create_topic(&name, text.partitions, &text.settings()).await?;
                self.bind(text).await
            }
            (Deed::Change, Thing::Topic(text)) => self.change_topic(text).await,
            (Deed::Delete, Thing::Topic(text)) => topics::delete(&self.state, &text.topic).await,
            (Deed::Make, Thing::Connector(text)) => self.make_connector(text).await,
            (Deed::Change, Thing::Connector(text)) => self.change_connector(text).await,
            (Deed::Delete, Thing::Connector(text)) => self.delete_connector(&text.connector).await,
            (Deed::Make, Thing::Reader(text)) => {
                self.topics_are_there(&text.topics).await?;
                let request = NewReader { name: text.reader.clone(), topics: text.topics.clone(), start: None };
                readers::create(self.state(), Creating::unkeyed(request)).await.map(drop)
            }
            (Deed::Change, Thing::Reader(text)) => {
                self.topics_are_there(&text.topics).await?;
                readers::read_others(&self.state, text.reader.clone(), text.topics.clone()).await
            }
            (Deed::Delete, Thing::Reader(text)) => {
                Ok(self.state.database.delete_reader(&ReaderName::parse(text.reader.as_str())?).await?)
            }
        }
    }

    fn connection(&self, text: &ConnectionText) -> ConnectionRequest {
        let mut request = connections::asked(text);
        let given =
            self.secrets.get(&text.connection).into_iter().flatten().filter(|(field, _)| text.secrets.contains_key(*field));
        request.settings.extend(given.map(|(field, secret)| (field.clone(), secret.as_str().into())));
        request
    }

    async fn make_schema(&self, text: &SchemaText) -> Result<(), Refusal> {
        let Some(first) = text.versions.first() else { return Ok(()) };
        let alone = text.versions.len() == 1;
        let request = NewSchema {
            name: text.schema.clone(),
            language: text.language,
            text: first.text.clone(),
            references: first.references.clone(),
            description: text.description.clone(),
            owner: text.owner.clone(),
            labels: text.labels.clone(),
            // versions that were registered under another rule come again as they are: the rule is for those after them
            rule: if alone { text.rule } else { Rule::default() },
            author: self.who.clone(),
            why: String::new(),
        };
        schemas::create(self.state(), Creating::unkeyed(request)).await.map(drop)?;
        if alone && !text.retired { Ok(()) } else { self.change_schema(text).await }
    }

    async fn change_schema(&self, text: &SchemaText) -> Result<(), Refusal> {
        let name = SchemaName::parse(text.schema.as_str())?;
        let (_, there) = self.state.database.schema(&name).await?;
        let known = |version: &&VersionText| there.iter().any(|v| v.text == version.text && v.refers == version.references);
        // an older text that is written before the latest is history, which only a new schema takes
        let latest_is_there = text.versions.last().is_some_and(|latest| known(&latest));
        for version in text.versions.iter().filter(|v| !latest_is_there && !known(v)) {
            let request = Text {
                text: version.text.clone(),
                references: version.references.clone(),
                author: self.who.clone(),
                why: String::new(),
            };
            schemas::register(self.state(), Path(text.schema.clone()), Body(request)).await.map(drop)?;
        }
        let (stored, _) = self.state.database.schema(&name).await?;
        let edit = SchemaEdit {
            description: text.description.clone(),
            owner: text.owner.clone(),
            labels: text.labels.clone(),
            rule: text.rule,
            retired: text.retired,
        };
        schemas::change(self.state(), Path(text.schema.clone()), IfMatch::Only(stored.revision), Body(edit)).await.map(drop)
    }

    async fn bind(&self, text: &TopicText) -> Result<(), Refusal> {
        let topic = TopicName::parse(text.topic.as_str())?;
        let there = self.state.database.bindings().await?;
        let of_topic = there.iter().filter(|(_, b)| b.topic == topic.as_str());
        for (_, bound) in of_topic.filter(|(_, b)| text.bound().all(|(role, _)| role != b.role)) {
            // what is to stay was taken over into what is to be
            let place = Path((text.topic.clone(), bound.role.clone()));
            schemas::unbind(self.state(), place).await?;
        }
        for (role, bound) in text.bound() {
            let same = there.iter().any(|(schema, b)| {
                b.topic == topic.as_str() && b.role == role && *schema == bound.schema && b.required == bound.required
            });
            if !same {
                let request = BindingRequest { schema: bound.schema.clone(), required: bound.required };
                let place = Path((text.topic.clone(), role.to_owned()));
                schemas::bind(self.state(), place, Body(request)).await?;
            }
        }
        Ok(())
    }

    async fn change_topic(&self, text: &TopicText) -> Result<(), Refusal> {
        let name = TopicName::parse(text.topic.as_str())?;
        let stored = self.state.database.topic(&name).await?;
        if stored.settings != text.settings() {
            self.state.database.change_topic(stored.id, stored.revision, &text.settings()).await?;
        }
        if stored.partitions < text.partitions {
            // whoever applies it has seen what that does
            topics::grow(&self.state, &stored, text.partitions).await?;
        }
        self.bind(text).await
    }

    /// Waits for a topic that a connector makes as it starts.
    async fn topic_is_there(&self, topic: &str) -> Result<(), Refusal> {
        let name = TopicName::parse(topic)?;
        let start = Instant::now();
        loop {
            match self.state.database.topic(&name).await {
                Err(PortError::NotFound { .. }) if start.elapsed() < PATIENCE => {
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                found => return Ok(found.map(drop)?),
            }
        }
    }

    async fn topics_are_there(&self, topics: &[String]) -> Result<(), Refusal> {
        for topic in topics {
            self.topic_is_there(topic).await?;
        }
        Ok(())
    }

    async fn make_connector(&self, text: &ConnectorText) -> Result<(), Refusal> {
        let wish = text.state.unwrap_or(Wished::Running).wish();
        if wish == Wish::Run {
            for topic in text.topics_read() {
                self.topic_is_there(topic).await?;
            }
        }
        let definition =
            text.definition("", &names(&self.state).await?).map_err(|e| Refusal::invalid("files", e.finding))?;
        if matches!(wish, Wish::Run | Wish::Draft) {
            let start = wish == Wish::Run;
            let request = ConnectorRequest { name: text.connector.clone(), definition, start, checked: false, draft: None };
            return connectors::create(self.state(), self.who(), Creating::unkeyed(request)).await.map(drop);
        }
        // one that is held or stopped has not been anywhere yet: it is looked at when it is started
        let name = ConnectorName::parse(text.connector.as_str())?;
        let connector = ValidConnector::check(ConnectorId(Uuid::now_v7()), name, definition)?;
        self.state.database.create_connector(&connector, wish, &self.who).await?;
        self.state.nudge.notify_one();
        Ok(())
    }

    async fn change_connector(&self, text: &ConnectorText) -> Result<(), Refusal> {
        let definition =
            text.definition("", &names(&self.state).await?).map_err(|e| Refusal::invalid("files", e.finding))?;
        let all = self.state.database.connectors().await?;
        let stored = all.iter().find(|c| c.name == text.connector).ok_or_else(|| not_there("connector", &text.connector))?;
        if stored.definition != definition {
            let (connector, consequences) = edits::judged(&self.state, stored, definition).await?;
            edits::change_to(&self.state, stored, &connector, &consequences, stored.version, &self.who).await?;
        }
        let action = match text.state {
            Some(wished) if wished.wish() != stored.wish => match wished {
                Wished::Running => Action::Start,
                Wished::Paused => Action::Pause,
                Wished::Stopped => Action::Stop,
                Wished::Draft => {
                    let finding = format!("{} has started, and is no draft any more: say paused or stopped", stored.name);
                    return Err(Refusal::invalid("state", finding));
                }
            },
            _ => return Ok(()),
        };
        let request = ActionRequest { action, lane: None };
        connectors::act(self.state(), ConnectorAt(stored.id.0), self.who(), Body(request)).await.map(drop)
    }

    /// Deletes a connector, and waits until it has left its system.
    async fn delete_connector(&self, name: &str) -> Result<(), Refusal> {
        let all = self.state.database.connectors().await?;
        let stored = all.iter().find(|c| c.name == name).ok_or_else(|| not_there("connector", name))?;
        connectors::delete(&self.state, stored.id, &self.who).await?;
        let start = Instant::now();
        loop {
            match self.state.database.find_connector(stored.id).await {
                Err(PortError::NotFound { .. }) => return Ok(()),
                Err(other) => return Err(other.into()),
                Ok(still) if start.elapsed() > PATIENCE => {
                    let why = still.said().find_map(|lane| lane.reason.clone());
                    let why = why.map_or_else(String::new, |why| format!(" ({why})"));
                    let detail = format!(
                        "{name} has not left its system yet{why}: it goes on trying; apply once more when it is gone"
                    );
                    return Err(PortError::Refused(detail).into());
                }
                Ok(_) => tokio::time::sleep(Duration::from_millis(100)).await,
            }
        }
    }
}
