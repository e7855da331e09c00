//! A web page that searches, completes and corrects while somebody types, in an application with its rows in SQLite:
//! `cargo run --release -p nut-cellar-examples --bin search_page`, then open <http://127.0.0.1:8031>.
//!
//! The rows are the application's, changed by plain SQL; a keeper catches up in the background. Requests never wait for each other:
//! each takes a connection of its own, on a thread where it may block.

mod office;

use axum::extract::{Query, State};
use axum::http::{StatusCode, header};
use axum::response::{Html, IntoResponse};
use axum::routing::{get, post};
use axum::{Json, Router};
use office::{Answer, Asked, Item, Office};
use serde::Serialize;
use std::error::Error;
use std::path::PathBuf;
use std::sync::Arc;

/// Where the page is, unless an argument names another port.
const PORT: u16 = 8031;

#[derive(Serialize)]
struct Refused {
    error: String,
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let mut arguments = std::env::args().skip(1);
    let port = match arguments.next() {
        None => PORT,
        Some(help) if help == "--help" => {
            println!(
                "search_page [PORT [DATABASE FILE]]: a page that searches lost property, at port {PORT} without"
            );
            return Ok(());
        }
        Some(port) => port
            .parse()
            .map_err(|_| format!("`{port}` is no port; call it so: search_page [PORT [DATABASE FILE]]"))?,
    };
    let file = arguments.next().map_or_else(|| std::env::temp_dir().join("quillmere.db"), PathBuf::from);
    let office = Arc::new(Office::open(&file)?);
    let _keeper = office.keeper()?;

    let routes = Router::new()
        .route("/", get(|| async { Html(include_str!("page.html")) }))
        .route("/search", get(search))
        .route("/items", post(hand_in))
        .with_state(office);
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", port)).await?;
    println!("The lost-property office of {} is at http://{}", file.display(), listener.local_addr()?);
    Ok(axum::serve(listener, routes).await?)
}

async fn search(State(office): State<Arc<Office>>, Query(asked): Query<Asked>) -> impl IntoResponse {
    let answer = blocking(move || office.search(&asked)).await;
    ([(header::CACHE_CONTROL, "no-store")], answer.map(Json::<Option<Answer>>))
}

async fn hand_in(State(office): State<Arc<Office>>, Json(item): Json<Item>) -> impl IntoResponse {
    blocking(move || office.hand_in(&item)).await.map(|id| (StatusCode::CREATED, Json(id)))
}

/// Does what may block where it keeps no other request waiting.
async fn blocking<T: Send + 'static>(
    work: impl FnOnce() -> Result<T, office::Failure> + Send + 'static,
) -> Result<T, (StatusCode, Json<Refused>)> {
    let done = tokio::task::spawn_blocking(work).await;
    let (status, error) = match done {
        Ok(Ok(done)) => return Ok(done),
        Ok(Err(error)) if error.is_the_callers() => (StatusCode::BAD_REQUEST, error.to_string()),
        Ok(Err(error)) => (StatusCode::INTERNAL_SERVER_ERROR, error.to_string()),
        Err(error) => (StatusCode::INTERNAL_SERVER_ERROR, error.to_string()),
    };
    Err((status, Json(Refused { error })))
}
