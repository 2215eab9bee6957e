//! The console's types are made from the document the service publishes: both are kept in step here.

use std::path::Path;

#[test]
fn the_console_is_built_against_what_the_service_publishes() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
    let mut now = ostrog_service::description().to_pretty_json().expect("can be written");
    now.push('\n');
    if std::env::var_os("OSTROG_RENEW").is_some() {
        std::fs::write(&path, &now).expect("can be written");
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        kept == now,
        "console/openapi.json is not what the service publishes; renew it with \
         OSTROG_RENEW=1 cargo test -p ostrog-service --test description, and then npm run types"
    );
}
