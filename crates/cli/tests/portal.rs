//! The agents' portal in a browser, through the port's sign-in: a page that follows what one may do.

#[path = "support/apps.rs"]
mod apps;
#[path = "support/browser.rs"]
mod browser;
mod support;

use apps::Apps;
use browser::*;
use serde_json::json;
use support::{folder, signal};
use thirtyfour::prelude::*;

/// Signs somebody in where the portal sends them, and opens one of its pages.
async fn enter(browser: &WebDriver, apps: &Apps, person: &str, path: &str) {
    browser.goto(&apps.agents).await.expect("opens");
    click(browser, "a[href='/sign-in']").await;
    click(browser, &format!("button[value='{person}']")).await;
    says(browser, ".who", &format!("user:{person}")).await;
    browser.goto(format!("{}{path}", apps.agents)).await.expect("opens");
}

/// What the page's own request comes to, whatever its buttons say.
async fn posts(browser: &WebDriver, path: &str) -> u64 {
    let asked = "return fetch(arguments[0], { method: 'POST' }).then((response) => response.status)";
    let status = browser.execute(asked, vec![json!(path)]).await.expect("is asked");
    status.convert().expect("a status")
}

const BUTTON: &str = "section.one button";

async fn is_out_of_use(browser: &WebDriver) -> bool {
    find(browser, BUTTON).await.attr("disabled").await.expect("is read").is_some()
}

#[tokio::test(flavor = "multi_thread")]
async fn refused_with_the_reason_and_let_in_without_a_restart() {
    let apps = Apps::open().await;
    let folder = folder();
    let driver = Driver::start();
    let open = async |name: &str| browser(&driver, &folder.path().join(name)).await;
    let (nils, ola, operator) = (open("nils").await, open("ola").await, open("operator").await);
    let told = {
        let (nils, ola, operator) = (nils.clone(), ola.clone(), operator.clone());
        tokio::spawn(async move { story(&apps, &nils, &ola, &operator).await })
    };
    let done = told.await;
    for browser in [nils, ola, operator] {
        browser.quit().await.expect("closes");
    }
    done.expect("the story runs to its end");
}

async fn story(apps: &Apps, nils: &WebDriver, ola: &WebDriver, operator: &WebDriver) {
    let service = &apps.service;
    // Nobody is signed in: no menu, and no page.
    nils.goto(format!("{}/bookings", apps.agents)).await.expect("opens");
    says(nils, "main", "nothing here for you").await;
    assert!(nils.find_all(By::Css("nav a")).await.expect("is looked for").is_empty());

    // Two people side by side: what one may, the other sees out of use, with the reason.
    enter(nils, apps, "nils", "/bookings/bk-410").await;
    enter(ola, apps, "ola", "/bookings/bk-410").await;
    says(nils, "section.one", "None of your roles allows it here").await;
    assert!(is_out_of_use(nils).await);
    says(ola, "section.one", "Give the space back").await;
    assert!(!is_out_of_use(ola).await);
    // The API behind it says the same, and nothing to what another site sends.
    assert_eq!(posts(nils, "/api/bookings/bk-410/cancel").await, 403);
    assert_eq!(posts(nils, "/api/bookings/none/cancel").await, 403);
    let elsewhere = service.http().post(format!("{}/api/bookings/bk-410/cancel", apps.agents));
    let elsewhere = elsewhere.header("origin", "http://elsewhere.example").send().await.expect("an answer");
    assert_eq!(elsewhere.status(), 403);
    // A page that is not shown has no entry, and its address leads to the one that says so.
    assert_eq!(nils.find_all(By::Css("nav a")).await.expect("is looked for").len(), 1);
    nils.goto(format!("{}/invoices", apps.agents)).await.expect("opens");
    says(nils, "main", "nothing here for you").await;
    nils.goto(format!("{}/bookings/bk-410", apps.agents)).await.expect("opens");
    says(nils, "section.one", "None of your roles").await;

    // One grant, given in the console: the page that stands open follows, and the API behind it.
    sign_in(operator, service).await;
    page(operator, service, "/give?at=tenant:hallfjord").await;
    says(operator, "main table", "arrives here").await;
    choose(operator, "input[name=role]", "line-agent").await;
    choose(operator, "form[aria-labelledby=give] input[name=to]", "user:nils").await;
    fill(operator, "form[aria-labelledby=give] input[placeholder='NL, HF']", "HF").await;
    press(operator, "Give it").await;
    says(operator, "form [role=status]", "Given, and in force").await;
    for _ in 0..100 {
        if !is_out_of_use(nils).await {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    assert!(!is_out_of_use(nils).await, "it follows without being loaded anew");
    click(nils, BUTTON).await;
    says(nils, "section.one", "cancelled").await;
    assert_eq!(posts(nils, "/api/bookings/bk-410/cancel").await, 409, "allowed, and done before");

    // Ostrog hangs: closed, and it says so; then it goes on by itself.
    signal(service.pid(), "STOP");
    click(ola, "a[href='/bookings/bk-411']").await;
    says(ola, "main", "cannot be asked now").await;
    assert!(ola.find_all(By::Css(BUTTON)).await.expect("is looked for").is_empty());
    assert_eq!(posts(ola, "/api/bookings/bk-411/cancel").await, 503);
    signal(service.pid(), "CONT");
    says(ola, "section.one", "Give the space back").await;

    // Who signs out is nobody, also for what the browser still has.
    click(nils, ".who button").await;
    says(nils, ".who", "Sign in").await;
    assert_eq!(posts(nils, "/api/bookings/bk-411/cancel").await, 401);
    // A token that counts no longer is one of nobody.
    assert!(matches!(service.delete("/api/v1/issuers/port-id").await.0, 200 | 204));
    says(ola, "main", "Your sign-in has ended").await;
    assert_eq!(posts(ola, "/api/bookings/bk-411/cancel").await, 401);
}
