//! A request that panics.

use axum::Router;
use axum::routing::get;
use gonvel_server::inner::{layered, seen_panics};
use gonvel_server::panics::count;

#[tokio::test]
async fn a_request_that_panics_is_answered_and_counted() {
    async fn breaks() -> &'static str {
        std::hint::black_box(None::<&str>).expect("a grower's secret")
    }
    count();
    let before = seen_panics().map_or(0, |seen| seen.count);
    let router = layered(Router::new().route("/breaks", get(breaks)));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    tokio::spawn(async move { axum::serve(listener, router).await });
    let response = reqwest::get(format!("http://{address}/breaks")).await.unwrap();
    assert_eq!(
        (response.status().as_u16(), &response.headers()["content-type"]),
        (500, &"application/problem+json".parse().unwrap())
    );
    let body = response.text().await.unwrap();
    assert!(body.contains("please report it") && !body.contains("grower"), "{body}");
    let seen = seen_panics().unwrap();
    assert!(seen.count > before && seen.place.contains("panics.rs"), "{} at {}", seen.count, seen.place);
}
