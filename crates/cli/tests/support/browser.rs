//! A real browser, as a person uses it: by the keyboard where they would, and never faster than the page.
#![allow(dead_code, reason = "each test file uses what it needs")]

use crate::support::Service;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use thirtyfour::prelude::*;

pub struct Driver {
    child: Child,
    port: u16,
}

impl Driver {
    pub fn start() -> Driver {
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

pub async fn browser(driver: &Driver, profile: &std::path::Path) -> WebDriver {
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
pub async fn find(browser: &WebDriver, css: &str) -> WebElement {
    let wait = browser.query(By::Css(css)).wait(Duration::from_secs(10), Duration::from_millis(50));
    wait.first().await.unwrap_or_else(|error| panic!("{css}: {error}"))
}

/// Waits until one of the elements says something.
pub async fn says(browser: &WebDriver, css: &str, text: &str) -> WebElement {
    for _ in 0..200 {
        for element in browser.find_all(By::Css(css)).await.unwrap_or_default() {
            if element.text().await.is_ok_and(|found| found.contains(text)) {
                return element;
            }
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
pub async fn keys(browser: &WebDriver, text: impl Into<TypingData>) {
    browser.active_element().await.expect("a focus").send_keys(text).await.expect("typed");
}

pub async fn sign_in(browser: &WebDriver, service: &Service) {
    browser.goto(&service.url).await.expect("opens");
    find(browser, "#key").await.send_keys(service.operator.clone() + Key::Enter).await.expect("typed");
    says(browser, "header", "Live: Port of Sorrel Bay").await;
}

/// Goes to a page of the console as a link of it would.
pub async fn page(browser: &WebDriver, service: &Service, path: &str) {
    browser.goto(format!("{}{path}", service.url)).await.expect("opens");
}

pub async fn click(browser: &WebDriver, css: &str) {
    click_by(browser, By::Css(css), css).await;
}

/// Clicks what is found, and what stands in its place if the page was drawn anew in between; what is still moving
/// in once it has come to rest.
pub async fn click_by(browser: &WebDriver, by: By, what: &str) {
    let mut tries = 0;
    loop {
        let wait = browser.query(by.clone()).wait(Duration::from_secs(10), Duration::from_millis(50));
        let found = wait.first().await.unwrap_or_else(|error| panic!("{what}: {error}"));
        match found.click().await {
            Ok(()) => return,
            Err(error)
                if tries < 20
                    && ["stale", "intercepted"].iter().any(|why| error.to_string().contains(why)) =>
            {
                tries += 1;
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
            Err(error) => panic!("{what}: {error}"),
        }
    }
}

/// Clicks the button that says something.
pub async fn press(browser: &WebDriver, text: &str) {
    click_by(browser, By::XPath(format!("//button[normalize-space()='{text}']")), text).await;
    keeps_its_place(browser, text).await;
}

/// Whatever is taken off the page, and whatever is out of use for a while: the keyboard's place is kept.
pub async fn keeps_its_place(browser: &WebDriver, after: &str) {
    for _ in 0..200 {
        let focused = browser.execute("return document.activeElement !== document.body", Vec::new()).await;
        if focused.and_then(|told| told.convert()).unwrap_or(false) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("after {after:?} the focus is nowhere");
}

/// Shows one part of an area.
pub async fn part(browser: &WebDriver, text: &str) {
    click_by(browser, By::XPath(format!("//div[@role='tab'][normalize-space()='{text}']")), text).await;
}

/// Chooses in a list by a part of what is to be chosen, as a keyboard does.
pub async fn choose(browser: &WebDriver, css: &str, text: &str) {
    find(browser, css).await.send_keys(text).await.unwrap_or_else(|error| panic!("{css}: {error}"));
    let path = format!(
        "//li[contains(@class, 'el-select-dropdown__item') and contains(normalize-space(), '{text}')]"
    );
    // The list may be made anew while it is looked at.
    for _ in 0..200 {
        for item in browser.find_all(By::XPath(&path)).await.unwrap_or_default() {
            if item.is_displayed().await.unwrap_or(false) {
                if item.click().await.is_ok() {
                    return;
                }
                // It still moves: it is meant, and not the one behind it.
                break;
            }
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("{css} offers no {text}");
}

/// Clicks the button that answers what is asked, once it can be seen.
pub async fn answer(browser: &WebDriver, text: &str) {
    let path = format!("//button[normalize-space()='{text}']");
    let wait = browser.query(By::XPath(&path)).and_displayed();
    let wait = wait.wait(Duration::from_secs(10), Duration::from_millis(50));
    let button = wait.first().await.unwrap_or_else(|error| panic!("{text}: {error}"));
    // It comes in with a short motion.
    for _ in 0..100 {
        if button.click().await.is_ok() {
            keeps_its_place(browser, text).await;
            return;
        }
        tokio::time::sleep(Duration::from_millis(30)).await;
    }
    panic!("{text} cannot be clicked");
}

/// Writes into the field that can be seen, once one can, in place of what is there: a dialog that is shut keeps its
/// own, unseen.
pub async fn fill(browser: &WebDriver, css: &str, text: impl Into<TypingData>) {
    let wait = browser.query(By::Css(css)).and_displayed();
    let wait = wait.wait(Duration::from_secs(10), Duration::from_millis(50));
    let field = wait.first().await.unwrap_or_else(|error| panic!("{css}: {error}"));
    field.click().await.expect("clicked");
    keys(browser, Key::Control + "a").await;
    keys(browser, text).await;
}
