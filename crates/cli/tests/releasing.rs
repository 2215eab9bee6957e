//! A change of policy in two browsers: whoever writes it, and whoever approves it, each signed in as themselves.

#[path = "support/browser.rs"]
mod browser;
mod support;

use browser::*;
use support::{Service, folder};
use thirtyfour::prelude::*;

/// Signs somebody in with the port's sign-in.
async fn enter(browser: &WebDriver, service: &Service, person: &str, name: &str) {
    browser.goto(&service.url).await.expect("opens");
    click_by(browser, By::LinkText("Sign in with port-id"), "port-id").await;
    click(browser, &format!("button[value='{person}']")).await;
    says(browser, ".who", name).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_writes_and_another_approves_it_rolls_it_out_and_goes_back() {
    let folder = folder();
    let service = Service::whole_demo(folder.path());
    let driver = Driver::start();
    let open = async |name: &str| browser(&driver, &folder.path().join(name)).await;
    let (vera, wim) = (open("vera").await, open("wim").await);
    let told = {
        let (vera, wim) = (vera.clone(), wim.clone());
        tokio::spawn(async move { story(&service, &vera, &wim).await })
    };
    let done = told.await;
    for browser in [vera, wim] {
        browser.quit().await.expect("closes");
    }
    done.expect("the story runs to its end");
}

async fn story(service: &Service, vera: &WebDriver, wim: &WebDriver) {
    // Vera writes.
    enter(vera, service, "vera", "Vera").await;
    page(vera, service, "/rollout/review/D-2").await;
    press(vera, "Go on writing it").await;
    says(vera, "header", "Draft D-2").await;
    page(vera, service, "/describe/text").await;
    press(vera, "roles.toml").await;
    click(vera, ".cm-content").await;
    keys(vera, Key::Control + Key::End).await;
    keys(vera, "\n# Clerks move what they look at.").await;
    keys(vera, Key::Control + "s").await;
    says(vera, ".course .state", "saved").await;
    page(vera, service, "/rehearse").await;
    press(vera, "Rehearse D-2 against live").await;
    says(vera, "#run", "41 of 41 cases pass").await;

    // And is refused: in words, by the button, and by the service whatever the button says.
    page(vera, service, "/rollout/review/D-2").await;
    says(vera, "section.actions", "You count among its editors (vera), and an editor does not approve").await;
    let approve = vera.find(By::XPath("//button[normalize-space()='Approve']")).await.expect("a button");
    assert!(!approve.is_enabled().await.expect("is read"));
    let asked = "return fetch('/api/v1/reviews/D-2/approval', { method: 'POST', headers: { 'content-type': \
                 'application/json' }, body: JSON.stringify({ accepts: { all: 'mine' } }) }).then((response) => response.status)";
    let status: u64 = vera.execute(asked, Vec::new()).await.expect("is asked").convert().expect("a status");
    assert_eq!(status, 403);

    // Wim finds it waiting for him, reads it, says why of each thing, and approves.
    enter(wim, service, "wim", "Wim").await;
    says(wim, "section[aria-labelledby=waits]", "D-2").await;
    page(wim, service, "/rollout/review/D-2").await;
    says(wim, "section[aria-labelledby=text]", "# Clerks move what they look at.").await;
    says(wim, "section[aria-labelledby=people]", "container:move").await;
    says(wim, "section.actions", "not accepted yet").await;
    for note in wim.find_all(By::Css("input[name^=note-]")).await.expect("fields") {
        note.send_keys("the shift leaders asked for it").await.expect("typed");
    }
    press(wim, "Approve").await;
    answer(wim, "Approve it").await;
    says(wim, "[role=status]", "D-2 is revision 2").await;

    // In the shadow first: live answers stay what they are, and what would differ is told.
    let emil = async || {
        let answer = service.evaluate(&service.customs, "user:emil", "move", "container:c-4701").await;
        answer["decision"].as_bool().expect("a decision")
    };
    page(wim, service, "/rollout").await;
    let shadow = "//section[@aria-labelledby='revisions']//li[contains(., 'with care')]//button[normalize-space()='Shadow']";
    click_by(wim, By::XPath(shadow), "Shadow").await;
    answer(wim, "Begin it").await;
    says(wim, "section[aria-labelledby=shadows]", "revision 2 for").await;
    assert!(!emil().await);
    says(wim, "section[aria-labelledby=shadows]", "newly allowed").await;
    says(wim, "section[aria-labelledby=shadows]", "user:emil").await;
    page(vera, service, "/rollout").await;
    click(vera, "button[aria-label='Make a case of user:emil']").await;
    says(vera, "body", "A case: user:emil may not container:move").await;

    // Live for customs alone: the difference is real there.
    click(wim, "button[aria-label='Roll out 2, customs']").await;
    says(wim, ".el-dialog", "19 gain, 0 lose").await;
    answer(wim, "Put it live now").await;
    says(wim, "main", "Revision 2 is live for customs").await;
    assert!(emil().await);
    // On Vera's page too, with nobody reloading it.
    says(vera, "section[aria-labelledby=live]", "revision 2").await;

    // And back in one step.
    click(wim, "button[aria-label='Roll back to 1, customs']").await;
    fill(wim, "input[name=note]", "the cranes are not ready").await;
    answer(wim, "Roll back now").await;
    says(wim, "main", "Back to revision 1 for customs").await;
    assert!(!emil().await);
    says(vera, "section[aria-labelledby=history]", "the cranes are not ready").await;
    says(vera, "section[aria-labelledby=history]", "Wim").await;

    // Every step names a person.
    let (_, changes) = service.get("/api/v1/changes?limit=100").await;
    let actors: Vec<&str> = changes["items"]
        .as_array()
        .expect("changes")
        .iter()
        .filter_map(|one| one["actor"].as_str())
        .collect();
    assert!(actors.contains(&"person:vera") && actors.contains(&"person:wim"), "{actors:?}");

    // Signed out, both are out.
    for browser in [vera, wim] {
        press(browser, "Sign out").await;
        says(browser, "main", "Sign in with port-id").await;
        browser.goto(format!("{}/setup", service.url)).await.expect("opens");
        says(browser, "main", "Sign in with port-id").await;
    }
}
