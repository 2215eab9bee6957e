//! The console in a browser: one story, by the keyboard where a person would use it.

mod support;

use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use support::{Service, folder};
use thirtyfour::prelude::*;

struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    fn start() -> Driver {
        let mut child = Command::new("/usr/bin/chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("Debian's chromium-driver is installed");
        let mut log = BufReader::new(child.stdout.take().expect("a pipe"));
        let mut line = String::new();
        let port = loop {
            line.clear();
            assert!(log.read_line(&mut line).expect("readable") > 0, "chromedriver ended");
            if let Some((_, port)) = line.rsplit_once("started successfully on port ") {
                break port.trim().trim_end_matches('.').parse().expect("a port");
            }
        };
        std::thread::spawn(move || std::io::copy(&mut log, &mut std::io::sink()));
        Driver { child, port }
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

async fn browser(driver: &Driver, profile: &std::path::Path) -> WebDriver {
    let mut options = DesiredCapabilities::chrome();
    for flag in [
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-dev-shm-usage",
        "--hide-scrollbars",
        "--window-size=1280,800",
    ] {
        options.add_arg(flag).expect("a flag");
    }
    options.add_arg(&format!("--user-data-dir={}", profile.display())).expect("a flag");
    WebDriver::new(format!("http://127.0.0.1:{}", driver.port), options).await.expect("a browser")
}

/// The element, once it is there.
async fn find(browser: &WebDriver, css: &str) -> WebElement {
    let wait = browser.query(By::Css(css)).wait(Duration::from_secs(10), Duration::from_millis(50));
    wait.first().await.unwrap_or_else(|error| panic!("{css}: {error}"))
}

/// Waits until the page says something.
async fn says(browser: &WebDriver, css: &str, text: &str) -> WebElement {
    for _ in 0..200 {
        if let Ok(element) = browser.find(By::Css(css)).await
            && element.text().await.is_ok_and(|found| found.contains(text))
        {
            return element;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let found = match browser.find(By::Css("body")).await {
        Ok(body) => body.text().await.unwrap_or_default(),
        Err(error) => error.to_string(),
    };
    panic!("{css} never says {text:?}; the page says {found}");
}

/// Types at whatever has the focus, as a keyboard does.
async fn keys(browser: &WebDriver, text: impl Into<TypingData>) {
    browser.active_element().await.expect("a focus").send_keys(text).await.expect("typed");
}

#[tokio::test(flavor = "multi_thread")]
async fn refused_then_let_in() {
    let folder = folder();
    let service = Service::demo(folder.path());
    wider_draft(&service, &folder.path().join("charter"));
    let driver = Driver::start();
    let browser = browser(&driver, &folder.path().join("profile")).await;
    let done = tokio::spawn({
        let (browser, url, key) = (browser.clone(), service.url.clone(), service.operator.clone());
        async move { story(&browser, &url, &key).await }
    });
    let done = done.await;
    browser.quit().await.expect("closes");
    done.expect("the story runs to its end");
}

/// A draft in which inspectors release whatever the hazard.
fn wider_draft(service: &Service, charter: &std::path::Path) {
    let run = |arguments: &[&str]| {
        let out = service.ostrog().args(arguments).output().expect("runs");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    };
    let path = charter.to_str().expect("UTF-8");
    run(&["charter", "show", "--into", path]);
    let roles = charter.join("roles.toml");
    let text = std::fs::read_to_string(&roles).expect("is there");
    let wider = text.replacen("[\"container:open\"]", "[\"container:open\", \"manifest:release\"]", 1);
    std::fs::write(&roles, wider).expect("written");
    run(&["draft", "save", path, "--title", "Inspectors release"]);
}

async fn story(browser: &WebDriver, url: &str, key: &str) {
    // Sign in: first with a key that is none.
    browser.goto(url).await.expect("opens");
    find(browser, "#key").await.send_keys("ostrog.k-0.0" + Key::Enter).await.expect("typed");
    says(browser, "[role=alert]", "The key is not known").await;
    let field = find(browser, "#key").await;
    field.send_keys(Key::Control + "a").await.expect("typed");
    field.send_keys(key.to_owned() + Key::Enter).await.expect("typed");
    says(browser, "header", "Live: Port of Sorrel Bay revision 1").await;
    says(browser, "main", "462 entities").await;
    let address = browser.current_url().await.expect("an address").to_string();
    assert!(!address.contains("ostrog.k"), "a secret in an address: {address}");
    let readable = browser
        .execute(
            "return document.cookie + JSON.stringify(localStorage) + JSON.stringify(sessionStorage)",
            Vec::new(),
        )
        .await
        .expect("runs");
    let readable: String = readable.convert().expect("text");
    assert!(!readable.contains("ostrog"), "scripts can read {readable}");

    // The roles grid, by arrows.
    find(browser, "nav a[href^='/roles']").await.click().await.expect("clicked");
    find(browser, "option[value=manifest]").await.click().await.expect("chosen");
    says(browser, "table[role=grid]", "chief-inspector").await;
    browser.execute("document.querySelector('td[tabindex=\"0\"]').focus()", Vec::new()).await.expect("runs");
    keys(browser, Key::Down + Key::Down + Key::Down + Key::Down + Key::Down + Key::End).await;
    says(browser, "aside", "subject.clearance >= resource.hazard").await;
    says(browser, "aside", "own-declaration").await;

    // Ask from anywhere, by keyboard alone, and read the refusal.
    keys(browser, "/").await;
    keys(browser, "user:ines" + Key::Tab + "release" + Key::Tab + "manifest:m-204" + Key::Enter).await;
    says(browser, "article .verdict", "Denied").await;
    says(browser, "article .sentence", "subject.clearance (3) >= resource.hazard (5) is false").await;
    says(browser, "article table", "false").await;

    // A station of the way leads to its fact, and Back to the answer.
    browser
        .find(By::LinkText("group:duty-inspectors"))
        .await
        .expect("a link")
        .click()
        .await
        .expect("clicked");
    says(browser, "h1", "group:duty-inspectors").await;
    says(browser, "main", "g-inspect").await;
    browser.back().await.expect("goes back");
    says(browser, "article .verdict", "Denied").await;

    // Change one thing: suppose it beside the first answer, then make it so.
    find(browser, "#fact").await.send_keys("user:ines.clearence = 5" + Key::Enter).await.expect("typed");
    says(browser, ".second [role=alert]", "did you mean \"clearance\"?").await;
    find(browser, "#fact").await.send_keys(Key::Control + "a").await.expect("typed");
    keys(browser, "user:ines.clearance = 5" + Key::Enter).await;
    says(browser, ".second article .verdict", "Allowed").await;
    says(browser, "article .verdict", "Denied").await;
    keys(browser, Key::Tab + Key::Tab + Key::Enter).await;
    says(browser, "article .verdict", "Allowed").await;
    says(browser, "article .sentence", "inspector at tenant:northline").await;

    // It is in force, and Today tells it; a reload loses nothing.
    browser.refresh().await.expect("reloads");
    says(browser, "article .verdict", "Allowed").await;
    find(browser, "nav a[href='/']").await.click().await.expect("clicked");
    says(browser, "main table", "user:ines described").await;

    // A key for an operator of one tenant: made, shown once, ended.
    find(browser, "nav a[href='/connect']").await.click().await.expect("clicked");
    find(browser, "input[name=name]")
        .await
        .send_keys("Northline desk" + Key::Tab + Key::Tab)
        .await
        .expect("typed");
    keys(browser, "grant-editer@tenant:northline" + Key::Enter).await;
    says(browser, "[role=alert]", "did you mean \"grant-editor\"?").await;
    find(browser, "input[name=rights]").await.send_keys(Key::Control + "a").await.expect("typed");
    keys(browser, "grant-editor@tenant:northline" + Key::Enter).await;
    says(browser, "[role=status] .secret", "ostrog.k-").await;
    says(browser, "table", "operator: grant-editor@tenant:northline").await;
    let end = find(browser, "button[aria-label='End Northline desk']").await;
    end.click().await.expect("clicked");
    end.click().await.expect("clicked");
    for _ in 0..100 {
        let rows = browser.find_all(By::Css("tbody tr")).await.expect("rows").len();
        if rows == 2 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(browser.find_all(By::Css("tbody tr")).await.expect("rows").len(), 2);

    // A draft: what it changes, in words; live, and back.
    find(browser, "nav a[href='/rollout']").await.click().await.expect("clicked");
    find(browser, "button[aria-expanded]").await.send_keys(Key::Enter + "").await.expect("typed");
    says(browser, "article", "gives manifest:release always").await;
    let put = find(browser, "article .el-button--primary").await;
    put.click().await.expect("clicked");
    put.click().await.expect("clicked");
    says(browser, "main", "Revision 2 is live: Inspectors release").await;
    says(browser, "header", "revision 2").await;
    find(browser, "input[name=note]").await.send_keys("too wide").await.expect("typed");
    let back = find(browser, "section li .el-button").await;
    back.click().await.expect("clicked");
    back.click().await.expect("clicked");
    says(browser, "header", "revision 1").await;

    // Signed out, the page is closed.
    find(browser, "header button").await.click().await.expect("clicked");
    find(browser, "#key").await;
    browser.goto(format!("{url}/roles/manifest")).await.expect("opens");
    find(browser, "#key").await;
}
