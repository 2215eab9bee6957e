//! A customs desk that guards itself. Beside `ostrog demo`, with its address and the customs desk's key:
//!
//! ```sh
//! OSTROG_URL=… OSTROG_KEY=… cargo run -p ostrog-client --features tower --example desk
//! curl -i http://127.0.0.1:7590/manifests/m-204 -H "Authorization: Bearer …"
//! ```

use axum::Json;
use axum::extract::Path;
use ostrog_client::Client;
use ostrog_client::guard::{Guard, Permit, Routes, may, open};
use serde_json::{Value, json};

async fn show(permit: Permit, Path(manifest): Path<String>) -> Json<Value> {
    Json(json!({ "manifest": manifest, "shown-to": permit.subject }))
}

async fn release(permit: Permit, Path(manifest): Path<String>) -> Json<Value> {
    Json(json!({ "released": manifest, "by": permit.subject }))
}

async fn health() -> &'static str {
    "up"
}

#[tokio::main]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let client = Client::new(&std::env::var("OSTROG_URL")?, &std::env::var("OSTROG_KEY")?)?;
    let routes: Routes = Guard::new(client).routes();
    let router = routes
        .get("/manifests/{manifest}", show, may("manifest:view").on("manifest:{manifest}"))
        .post("/manifests/{manifest}/release", release, may("manifest:release").on("manifest:{manifest}"))
        .get("/health", health, open())
        .build()?;
    let listener = tokio::net::TcpListener::bind("127.0.0.1:7590").await?;
    Ok(axum::serve(listener, router).await?)
}
