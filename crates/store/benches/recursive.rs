//! One question: how many decisions a second beside the same question as one recursive SQL query?
//!
//! The facts stand in plain indexed tables of a PostgreSQL on loopback; the query is prepared once.
//! Both are asked the same questions, and every answer is compared. Run it with `cargo xtask bench`.

#![allow(clippy::cast_possible_truncation, reason = "the numbers of a benchmark are small")]

#[path = "../../core/benches/port/mod.rs"]
mod port;

use ostrog_core::prelude::*;
use ostrog_store::cluster::Cluster;
use port::{Asks, Facts, NOWHERE};
use sqlx::{Connection as _, PgConnection};
use std::hint::black_box;
use std::os::unix::fs::PermissionsExt as _;
use std::time::Instant;

const USERS: usize = 100_000;
const QUESTIONS: usize = 3_000;

const TABLES: &str = "
    create table users (id int primary key, clearance int not null);
    create table places (id int primary key, outer_id int, hazard int, declarant int);
    create table members (user_id int not null, group_id int not null, primary key (user_id, group_id));
    create table grants (to_group boolean not null, holder int not null, role int not null, place int not null);
";

const QUERY: &str = "
    with recursive around as (
        select id, outer_id from places where id = $2
        union all
        select places.id, places.outer_id from around join places on places.id = around.outer_id
    ), held as (
        select role from grants where not to_group and holder = $1 and place in (select id from around)
        union all
        select role from members join grants on to_group and holder = group_id
        where user_id = $1 and place in (select id from around)
    )
    select case $3
        when 0 then exists (select from held)
        when 1 then exists (select from held where role = 1)
        else exists (select from held where role = 2)
            and (select clearance from users where id = $1) >= (select hazard from places where id = $2)
            and (select declarant from places where id = $2) is distinct from $1
    end";

#[tokio::main(flavor = "current_thread")]
async fn main() {
    // `cargo test --benches` passes flags meant for a test harness; there is nothing to test here.
    if std::env::args().any(|argument| argument == "--test") {
        return;
    }
    let facts = port::facts(USERS);
    let world = facts.world();
    let folder = tempfile::tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).expect("opened");
    let cluster = Cluster::start(folder.path()).expect("starts");
    let url = cluster.database("bench").await.expect("a database");
    let mut database = PgConnection::connect(&url).await.expect("connects");
    fill(&mut database, &facts).await;

    let asked: Vec<(u32, Asks, u32)> = port::questions(&facts, USERS).into_iter().take(QUESTIONS).collect();
    let compiled = facts.compiled(&world, &asked);
    let mut scratch = Scratch::default();
    let mut query = 0.0_f64;
    for round in 0..2 {
        let start = Instant::now();
        for ((user, asks, place), question) in asked.iter().zip(&compiled) {
            let found: bool = sqlx::query_scalar(QUERY)
                .bind(*user as i32)
                .bind(*place as i32)
                .bind(*asks as i32)
                .fetch_one(&mut database)
                .await
                .expect("answers");
            if round == 0 {
                assert_eq!(found, decide(world.engine(), question, &mut scratch).allowed, "{question:?}");
            }
        }
        query = QUESTIONS as f64 / start.elapsed().as_secs_f64();
    }
    let start = Instant::now();
    for _ in 0..50 {
        for question in &compiled {
            black_box(decide(world.engine(), question, &mut scratch));
        }
    }
    let decision = (50 * QUESTIONS) as f64 / start.elapsed().as_secs_f64();
    println!("{:>9}  {:>14}  {:>16}  {:>6}", "users", "query a second", "decision a second", "ratio");
    println!("{USERS:>9}  {query:>14.0}  {decision:>16.0}  {:>6.0}", decision / query);
    database.close().await.expect("closes");
    cluster.stop().expect("stops");
}

async fn fill(database: &mut PgConnection, facts: &Facts) {
    sqlx::raw_sql(TABLES).execute(&mut *database).await.expect("made");
    let hand = &facts.by_hand;
    let known = |at: &u32| (*at != NOWHERE).then_some(*at as i32);
    let ids = |count: usize| (0..count as i32).collect::<Vec<_>>();
    let small = |values: &[i64]| values.iter().map(|value| *value as i32).collect::<Vec<_>>();
    sqlx::query("insert into users select * from unnest($1::int[], $2::int[])")
        .bind(ids(USERS))
        .bind(small(&hand.clearance))
        .execute(&mut *database)
        .await
        .expect("filled");
    sqlx::query("insert into places select * from unnest($1::int[], $2::int[], $3::int[], $4::int[])")
        .bind(ids(facts.places.len()))
        .bind(hand.within.iter().map(known).collect::<Vec<_>>())
        .bind(small(&hand.hazard))
        .bind(hand.declarant.iter().map(known).collect::<Vec<_>>())
        .execute(&mut *database)
        .await
        .expect("filled");
    let members =
        hand.groups.iter().enumerate().flat_map(|(user, of)| of.iter().map(move |group| (user, *group)));
    let (users, groups): (Vec<i32>, Vec<i32>) =
        members.map(|(user, group)| (user as i32, group as i32)).unzip();
    sqlx::query("insert into members select * from unnest($1::int[], $2::int[]) on conflict do nothing")
        .bind(users)
        .bind(groups)
        .execute(&mut *database)
        .await
        .expect("filled");
    for (to_group, all) in [(false, &hand.user_grants), (true, &hand.group_grants)] {
        let rows =
            all.iter().enumerate().flat_map(|(holder, of)| of.iter().map(move |grant| (holder, *grant)));
        let rows: Vec<(i32, i32, i32)> =
            rows.map(|(holder, (role, place))| (holder as i32, i32::from(role), place as i32)).collect();
        sqlx::query("insert into grants select $1, * from unnest($2::int[], $3::int[], $4::int[])")
            .bind(to_group)
            .bind(rows.iter().map(|row| row.0).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.1).collect::<Vec<_>>())
            .bind(rows.iter().map(|row| row.2).collect::<Vec<_>>())
            .execute(&mut *database)
            .await
            .expect("filled");
    }
    let index = "create index on grants (to_group, holder); analyze";
    sqlx::raw_sql(index).execute(database).await.expect("indexed");
}
