//! Routes and handlers. What a route needs stands beside it; a handler is called once it is allowed.

use crate::outbox::Telling;
use crate::tables::Manifest;
use crate::{Desk, Error};
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use axum::{Json, Router};
use ostrog_client::RowFilter;
use ostrog_client::guard::{Caller, Columns, Permit, Refusal, handler_asks, may, open, rows};
use ostrog_client::wire::register::EntityLine;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use sqlx::{FromRow, Postgres, QueryBuilder};
use std::collections::BTreeMap;
use std::time::Duration;

/// How long a write waits for Ostrog to know of it before it answers that it does not yet.
const REGISTERED: Duration = Duration::from_millis(800);
/// Most manifests of a page.
const MAX_PAGE: i64 = 100;

pub(crate) fn router(desk: Desk, columns: &BTreeMap<String, Columns>) -> Result<Router, Error> {
    let of = |kind: &str| columns.get(kind).cloned().unwrap_or_default();
    let manifest = "manifest:{manifest}";
    let release = may("manifest:view").on(manifest).and(may("manifest:release").on(manifest));
    let inspect = may("inspection:open").on_new_within("container:{container}");
    let routes = desk.guard.routes();
    let routes = routes
        .get("/manifests", list, rows("manifest:view", &of("manifest")))
        .get("/manifests/{manifest}", show, may("manifest:open-page").on(manifest))
        .get("/manifests/{manifest}/affordances", affordances, may("manifest:view").on(manifest))
        .post("/manifests/{manifest}/release", release_cargo, release)
        .get("/manifests/{manifest}/containers", containers, rows("container:view", &of("container")))
        // The line stands in the body, and whoever files for a line may do so for some lines only.
        .post("/voyages/{voyage}/manifests", file, handler_asks())
        .post("/containers/{container}/inspections", inspect_container, inspect)
        .get("/health", health, open());
    Ok(routes.build()?.with_state(desk))
}

/// What went wrong.
enum Failed {
    /// Somebody may not, or it is not known whether.
    Refused(Refusal),
    /// Something else about the request, with its status and words.
    Wrong(StatusCode, String),
    /// The desk itself.
    Broken(Error),
}

impl From<Refusal> for Failed {
    fn from(refusal: Refusal) -> Failed {
        Failed::Refused(refusal)
    }
}

impl<E: Into<Error>> From<E> for Failed {
    fn from(error: E) -> Failed {
        Failed::Broken(error.into())
    }
}

impl IntoResponse for Failed {
    fn into_response(self) -> Response {
        let (status, detail) = match self {
            Failed::Refused(refusal) => return refusal.into_response(),
            Failed::Wrong(status, detail) => (status, detail),
            Failed::Broken(error) => {
                tracing::error!(%error, "a request failed");
                (StatusCode::SERVICE_UNAVAILABLE, "The desk cannot do this now.".to_owned())
            }
        };
        let title = status.canonical_reason().unwrap_or_default();
        let problem =
            json!({ "type": "about:blank", "title": title, "status": status.as_u16(), "detail": detail });
        (status, [("content-type", "application/problem+json")], problem.to_string()).into_response()
    }
}

/// Which page of manifests.
#[derive(Debug, Deserialize)]
struct Listing {
    state: Option<String>,
    #[serde(default)]
    sort: Sort,
    #[serde(default)]
    page: i64,
    #[serde(default = "usual_size")]
    size: i64,
}

fn usual_size() -> i64 {
    20
}

#[derive(Clone, Copy, Debug, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Sort {
    #[default]
    Number,
    Hazard,
    Voyage,
}

#[derive(Serialize)]
struct Page<T> {
    items: Vec<T>,
    /// How many there are in all that may be seen.
    total: i64,
    /// The position that what may be seen is of.
    position: Option<String>,
}

async fn list(
    State(desk): State<Desk>,
    filter: RowFilter,
    Query(listing): Query<Listing>,
) -> Result<Json<Page<Manifest>>, Failed> {
    let seen = |what: &str| {
        let mut query = QueryBuilder::<Postgres>::new(format!("select {what} from manifests m where "));
        filter.push_to(&mut query);
        if let Some(state) = &listing.state {
            query.push(" and m.state = ").push_bind(state.clone());
        }
        query
    };
    let total = seen("count(*)").build_query_scalar().fetch_one(&desk.pool).await?;
    let mut page = seen("m.*");
    page.push(match listing.sort {
        Sort::Number => " order by m.number",
        Sort::Hazard => " order by m.hazard_class desc nulls last, m.number",
        Sort::Voyage => " order by m.voyage, m.number",
    });
    let size = listing.size.clamp(1, MAX_PAGE);
    page.push(" limit ").push_bind(size);
    page.push(" offset ").push_bind(listing.page.max(0).saturating_mul(size));
    let items = page.build_query_as().fetch_all(&desk.pool).await?;
    Ok(Json(Page { items, total, position: filter.position.clone() }))
}

async fn manifest(desk: &Desk, number: &str) -> Result<Manifest, Failed> {
    let found = sqlx::query_as("select * from manifests where number = $1").bind(number);
    let found = found.fetch_optional(&desk.pool).await?;
    found.ok_or_else(|| Failed::Wrong(StatusCode::NOT_FOUND, format!("The desk has no manifest {number}.")))
}

async fn show(State(desk): State<Desk>, Path(number): Path<String>) -> Result<Json<Manifest>, Failed> {
    Ok(Json(manifest(&desk, &number).await?))
}

async fn affordances(permit: Permit, Path(number): Path<String>) -> Result<Json<Value>, Failed> {
    let shown = permit.caller.affordances(Some(&format!("manifest:{number}"))).await?;
    Ok(Json(json!({ "affordances": shown.all, "position": shown.position })))
}

async fn release_cargo(
    State(desk): State<Desk>,
    permit: Permit,
    Path(number): Path<String>,
) -> Result<Json<Value>, Failed> {
    let mut all = desk.pool.begin().await?;
    let released =
        "update manifests set state = 'released' where number = $1 and state = 'filed' returning *";
    let released: Option<Manifest> = sqlx::query_as(released).bind(&number).fetch_optional(&mut *all).await?;
    let Some(released) = released else {
        // Allowed, and yet not to be done: it is the desk's to know what can follow what.
        let words = "Only a manifest that is filed, and not released yet, is released.".to_owned();
        return Err(Failed::Wrong(StatusCode::CONFLICT, words));
    };
    tracing::info!(number, by = permit.subject, "released");
    let fact = Telling::Fact(format!("manifest:{number}.state = released"));
    told(&desk, all, &fact, json!(released)).await.map(Json)
}

/// A manifest that is filed.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Filing {
    number: String,
    line: String,
    hazard: i64,
}

async fn file(
    State(desk): State<Desk>,
    caller: Caller,
    Path(voyage): Path<String>,
    Json(filing): Json<Filing>,
) -> Result<(StatusCode, Json<Value>), Failed> {
    let says = json!({ "within": format!("voyage:{voyage}"), "line": filing.line, "hazard": filing.hazard });
    let says: Map<String, Value> = says.as_object().cloned().unwrap_or_default();
    let permit = caller.may("manifest:file", None, says).await?;
    let Some(declarant) = permit.subject.strip_prefix("user:") else {
        return Err(Failed::Wrong(StatusCode::UNPROCESSABLE_ENTITY, "A person declares.".to_owned()));
    };
    let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    if !filing.number.starts_with("m-") || filing.number.len() > 40 || !filing.number.chars().all(plain) {
        let words = "A manifest's number is such as m-901: small letters, digits and dashes.".to_owned();
        return Err(Failed::Wrong(StatusCode::UNPROCESSABLE_ENTITY, words));
    }
    if !(1..=9).contains(&filing.hazard) {
        let words = "The hazard class is one of 1 to 9.".to_owned();
        return Err(Failed::Wrong(StatusCode::UNPROCESSABLE_ENTITY, words));
    }
    match desk.outbox.knows(&format!("voyage:{voyage}")).await {
        Ok(true) => {}
        Ok(false) => {
            let words = format!("There is no voyage {voyage}.");
            return Err(Failed::Wrong(StatusCode::UNPROCESSABLE_ENTITY, words));
        }
        Err(error) => {
            tracing::warn!(%error, "whether a voyage is registered is not known");
            let words = "Whether there is this voyage is not known now.".to_owned();
            return Err(Failed::Wrong(StatusCode::SERVICE_UNAVAILABLE, words));
        }
    }
    let filed = Manifest {
        number: filing.number,
        line_code: Some(filing.line),
        hazard_class: Some(filing.hazard),
        on_hold: None,
        state: Some("filed".to_owned()),
        voyage: Some(voyage),
        declared_by: Some(declarant.to_owned()),
    };
    let mut all = desk.pool.begin().await?;
    let insert = "insert into manifests values ($1, $2, $3, null, 'filed', $4, $5) on conflict do nothing";
    let insert = sqlx::query(insert).bind(&filed.number).bind(&filed.line_code).bind(filed.hazard_class);
    let inserted = insert.bind(&filed.voyage).bind(&filed.declared_by).execute(&mut *all).await?;
    if inserted.rows_affected() == 0 {
        let words = format!("There is a manifest {} already.", filed.number);
        return Err(Failed::Wrong(StatusCode::CONFLICT, words));
    }
    let told = told(&desk, all, &Telling::New(Box::new(filed.line())), json!(filed)).await?;
    Ok((StatusCode::CREATED, Json(told)))
}

/// Commits what was done with what Ostrog must know of it.
async fn told(
    desk: &Desk,
    mut all: sqlx::Transaction<'_, Postgres>,
    telling: &Telling,
    mut answer: Value,
) -> Result<Value, Failed> {
    let id = desk.outbox.keep(&mut all, telling).await?;
    all.commit().await?;
    let registered = desk.outbox.told(id, REGISTERED).await?;
    if let Some(members) = answer.as_object_mut() {
        members.insert("registered".to_owned(), registered.into());
    }
    Ok(answer)
}

#[derive(Serialize, FromRow)]
struct Container {
    number: String,
    manifest: String,
    weight: Option<String>,
}

async fn containers(
    State(desk): State<Desk>,
    filter: RowFilter,
    Path(number): Path<String>,
) -> Result<Json<Page<Container>>, Failed> {
    let mut query = QueryBuilder::<Postgres>::new("select c.* from containers c where c.manifest = ");
    query.push_bind(number).push(" and ");
    filter.push_to(&mut query);
    let items: Vec<Container> =
        query.push(" order by c.number").build_query_as().fetch_all(&desk.pool).await?;
    Ok(Json(Page { total: items.len().try_into().unwrap_or(i64::MAX), items, position: filter.position }))
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Beginning {
    number: String,
}

async fn inspect_container(
    State(desk): State<Desk>,
    permit: Permit,
    Path(container): Path<String>,
    Json(begun): Json<Beginning>,
) -> Result<(StatusCode, Json<Value>), Failed> {
    let inspector = permit.subject.split_once(':').map_or("", |(_, id)| id);
    let mut all = desk.pool.begin().await?;
    let insert = "insert into inspections select $1, number, $3 from containers where number = $2 on conflict do nothing";
    let insert = sqlx::query(insert).bind(&begun.number).bind(&container).bind(inspector);
    if insert.execute(&mut *all).await?.rows_affected() == 0 {
        let words = format!("There is an inspection {} already, or no container {container}.", begun.number);
        return Err(Failed::Wrong(StatusCode::CONFLICT, words));
    }
    let line = EntityLine {
        entity: format!("inspection:{}", begun.number),
        within: Some(format!("container:{container}")),
        relations: [("inspector".to_owned(), vec![permit.subject.clone()])].into(),
        ..Default::default()
    };
    let answer = json!({ "number": begun.number, "container": container, "opened_by": inspector });
    Ok((StatusCode::CREATED, Json(told(&desk, all, &Telling::New(Box::new(line)), answer).await?)))
}

async fn health(State(desk): State<Desk>) -> Result<Json<Value>, Failed> {
    let (outbox, counts) = (desk.outbox.standing().await?, desk.guard.counts());
    Ok(Json(json!({
        "outbox": outbox,
        "requests": { "allowed": counts.allowed, "denied": counts.denied, "unanswered": counts.unanswered },
    })))
}
