//! The HTTP server: routes by feature, live updates, the built console.

mod addressed;
mod answers;
mod apart;
mod connections;
mod connectors;
mod console;
mod creating;
mod delivering;
mod demo;
mod drafts;
mod edits;
mod ending;
mod event_rows;
mod events;
mod existing;
mod fitting;
mod fleet;
mod foreseeing;
mod functions;
mod health;
mod heard;
mod installation;
mod kinds_told;
mod limits;
mod lingering;
mod listing;
mod manifests;
mod operations;
mod pages_told;
pub mod panics;
mod plans;
mod pointing;
mod positions;
mod preflights;
mod presenting;
mod problem_types;
mod problems;
mod producers;
mod producing;
mod quarantine;
mod reached;
mod readers;
mod rechecking;
mod records;
mod retried;
mod revisions;
mod schemas;
mod shapes;
mod standing;
mod starting;
mod state;
mod topic_users;
mod topics;
mod transfer;
mod who;
mod whole_told;

use std::sync::Arc;

use axum::Router;
use axum::extract::DefaultBodyLimit;
use axum::routing::get;
use tokio::sync::watch;
use tower_http::catch_panic::CatchPanicLayer;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{NotForContentType, Predicate, SizeAbove};
use utoipa::OpenApi;
use utoipa_axum::router::{OpenApiRouter, UtoipaMethodRouterExt};
use utoipa_axum::routes;

pub use console::ConsoleFiles;

/// What tests look at beside the interface: they are a program of their own, so that the crate is not compiled a second time for
/// them.
#[doc(hidden)]
pub mod inner {
    pub use crate::events::{Announced, From, Known};
    pub use crate::layered;
    pub use crate::panics::seen as seen_panics;
    pub use crate::presenting::connector;
    pub use crate::records::merged;
    pub use crate::retried::Told;
}

pub use limits::LARGEST_IMPORT;
pub use state::{DemoWorkload, ServerState};

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Gonvel",
        description = "Topics, readers, connectors and connections of a Gonvel server. Errors are problem documents (RFC 9457)."
    ),
    components(schemas(
        gonvel_http_api::Problem,
        gonvel_http_api::Connector,
        gonvel_http_api::Order,
        gonvel_http_api::Plan
    ))
)]
struct Document;

fn api() -> OpenApiRouter<Arc<ServerState>> {
    OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(health::health))
        .routes(routes!(problem_types::list))
        .routes(routes!(problem_types::one))
        .routes(routes!(connections::kinds))
        .routes(routes!(connections::list, connections::create))
        .routes(routes!(connections::one, connections::replace, connections::remove))
        .routes(routes!(connections::test_new))
        .routes(routes!(connections::test_saved))
        .routes(routes!(connections::tables))
        .routes(routes!(connectors::list, connectors::create))
        .routes(routes!(drafts::list, drafts::save))
        .routes(routes!(drafts::one, drafts::save_again, drafts::discard))
        .routes(routes!(preflights::of_unsaved))
        .routes(routes!(preflights::mend))
        .routes(routes!(preflights::kept, preflights::again))
        .routes(routes!(connectors::one, edits::change, connectors::remove))
        .routes(routes!(connectors::act))
        .routes(routes!(connectors::act_on_many))
        .routes(routes!(positions::positions, positions::reposition))
        .routes(routes!(positions::begin_anew))
        .routes(routes!(positions::agreements))
        .routes(routes!(fleet::deeds))
        .routes(routes!(fleet::lines))
        .routes(routes!(fleet::list))
        .routes(routes!(fleet::waiting))
        .routes(routes!(fleet::drain))
        .routes(routes!(fleet::one, fleet::forget))
        .routes(routes!(quarantine::causes))
        .routes(routes!(quarantine::records))
        .routes(routes!(quarantine::record))
        .routes(routes!(quarantine::mend))
        .routes(routes!(quarantine::retry))
        .routes(routes!(quarantine::discard))
        .routes(routes!(connectors::load_again))
        .routes(routes!(operations::list))
        .routes(routes!(operations::one, operations::cancel))
        .routes(routes!(edits::versions))
        .routes(routes!(manifests::read))
        .routes(routes!(manifests::write))
        .routes(routes!(connections::sample))
        .routes(routes!(topics::list, topics::create))
        .routes(routes!(foreseeing::list))
        .routes(routes!(topics::one, topics::remove))
        .routes(routes!(topics::change))
        .routes(routes!(topics::add_partitions))
        .routes(routes!(topics::history))
        .routes(routes!(topics::schemas))
        .routes(routes!(schemas::list, schemas::create))
        .routes(routes!(schemas::inferring::infer))
        .routes(routes!(schemas::one, schemas::change, schemas::remove))
        .routes(routes!(schemas::register))
        .routes(routes!(fitting::fit))
        .routes(routes!(schemas::checking::check))
        .routes(routes!(schemas::impact::impact))
        .routes(routes!(schemas::checking::difference))
        .routes(routes!(schemas::of_record))
        .routes(routes!(schemas::bind, schemas::unbind))
        .routes(routes!(topics::keeper))
        .routes(routes!(delivering::sample))
        .routes(routes!(event_rows::try_rows))
        .routes(routes!(shapes::functions))
        .routes(routes!(functions::list))
        .routes(routes!(functions::try_function))
        .routes(routes!(functions::one, functions::save, functions::remove))
        .routes(routes!(shapes::try_shape))
        .routes(routes!(shapes::compare_shapes))
        .routes(routes!(records::page, producing::append))
        .routes(routes!(records::tail))
        .routes(routes!(records::stream_records))
        .routes(routes!(records::search))
        .routes(routes!(producers::list, producing::begin_session))
        .routes(routes!(transfer::export))
        .routes(routes!(transfer::import))
        .routes(routes!(readers::list, readers::create))
        .routes(routes!(readers::one, readers::remove))
        .routes(routes!(readers::change_topics))
        .routes(routes!(readers::reposition))
        .routes(routes!(readers::join))
        .routes(routes!(readers::stay, readers::leave))
        .routes(routes!(readers::read))
        .routes(routes!(readers::commit))
        .routes(routes!(readers::stream_as_member))
        .routes(routes!(installation::export))
        .routes(routes!(installation::apply).layer(DefaultBodyLimit::max(limits::LARGEST_MANIFESTS)))
        .routes(routes!(events::events))
        .routes(routes!(demo::workload, demo::switch))
}

/// # Panics
/// Never: the document is made of serialisable parts.
fn documented() -> (Router<Arc<ServerState>>, serde_json::Value) {
    let (router, mut document) = api().split_for_parts();
    kinds_told::tell_kinds(&mut document);
    let mut document = serde_json::to_value(document).expect("the document is plain data");
    pages_told::name_pages(&mut document);
    whole_told::tell_whole(&mut document);
    answers::tell_answers(&mut document);
    (router, document)
}

/// The OpenAPI document as JSON text.
///
/// # Panics
/// Never: the document is made of serialisable parts.
#[must_use]
pub fn openapi_json() -> String {
    let (_, document) = documented();
    serde_json::to_string_pretty(&document).expect("the document is plain data")
}

/// Answers requests until it is to stop, and then those that are under way; ends when their connections do.
///
/// # Errors
/// If the listener fails.
pub async fn serve(
    listener: tokio::net::TcpListener,
    state: Arc<ServerState>,
    console: ConsoleFiles,
    stopping: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<()> {
    let (stop, stops) = watch::channel(false);
    let stopping = async move {
        stopping.await;
        let _ = stop.send(true);
    };
    let application = application(state, console, stops);
    axum::serve(listener, application).with_graceful_shutdown(stopping).await
}

/// The whole application: interface, API and metrics.
fn application(state: Arc<ServerState>, console: ConsoleFiles, stopping: watch::Receiver<bool>) -> Router {
    let (router, document) = documented();
    let places = Arc::new(pointing::places(&document));
    let document = document.to_string();
    let router = router
        .route("/metrics", get(health::metrics))
        .route(
            "/api/openapi.json",
            get(move || async move { ([(axum::http::header::CONTENT_TYPE, "application/json")], document) }),
        )
        .fallback(move |uri: axum::http::Uri| async move { console::serve(console, &uri) })
        .method_not_allowed_fallback(problems::method_not_allowed)
        .with_state(state)
        .layer(axum::middleware::from_fn_with_state(places, pointing::point))
        .layer(axum::middleware::from_fn_with_state(stopping, ending::end_streams));
    layered(router)
}

/// What every request goes through.
#[doc(hidden)]
pub fn layered(router: Router) -> Router {
    // streams of events must not wait in a compressor
    let compressible = SizeAbove::new(512)
        .and(NotForContentType::const_new("text/event-stream"))
        .and(NotForContentType::const_new("application/x-ndjson"));
    router
        .layer(axum::middleware::from_fn(lingering::linger))
        .layer(CatchPanicLayer::custom(panics::answer))
        .layer(CompressionLayer::new().compress_when(compressible))
}
