//! The console in a browser: a story for each area, by the keyboard where a person would use it.

#[path = "support/browser.rs"]
mod browser;
mod support;

use browser::*;
use std::time::Duration;
use support::{Service, folder};
use thirtyfour::prelude::*;

/// A browser beside a service with the demo, for one story.
async fn tell<S: Future<Output = ()> + Send + 'static>(
    prepare: impl FnOnce(&Service, &std::path::Path),
    story: impl FnOnce(WebDriver, Service) -> S,
) {
    let started = |folder: &std::path::Path| {
        let service = Service::demo(folder);
        prepare(&service, folder);
        service
    };
    tell_on(started, story).await;
}

/// A browser beside a service, for one story.
async fn tell_on<S: Future<Output = ()> + Send + 'static>(
    start: impl FnOnce(&std::path::Path) -> Service,
    story: impl FnOnce(WebDriver, Service) -> S,
) {
    let folder = folder();
    let service = start(folder.path());
    let driver = Driver::start();
    let browser = browser(&driver, &folder.path().join("profile")).await;
    let done = tokio::spawn(story(browser.clone(), service)).await;
    browser.quit().await.expect("closes");
    done.expect("the story runs to its end");
}

/// Until all of a draft is saved.
async fn is_saved(browser: &WebDriver) {
    says(browser, ".course .state", "all of it is saved").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn refused_then_let_in() {
    let prepare = |service: &Service, folder: &std::path::Path| wider_draft(service, &folder.join("charter"));
    tell(prepare, async |browser, service| story(&browser, &service.url, &service.operator).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_is_described_bundled_and_put_live() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            click(browser, "nav a[href='/describe']").await;
            find(browser, "input[name=title]").await.send_keys("Holds" + Key::Enter).await.expect("typed");
            is_saved(browser).await;
            says(browser, "header", "Draft D-1, based on 1, no change yet").await;

            // A form changes the same text as the editor.
            press(browser, "manifest").await;
            fill(browser, "input[name=new-action]", "hold" + Key::Tab + "Put it on hold" + Key::Enter).await;
            says(browser, "article table", "manifest:hold").await;
            says(browser, ".course .state", "not saved yet").await;
            part(browser, "Charter text").await;
            press(browser, "roles.toml").await;
            click(browser, ".cm-content").await;
            keys(browser, Key::Control + Key::End).await;
            keys(browser, "\n[role.holder]\npermissions = [\"manifest:hld\"]").await;
            says(browser, "aside", "did you mean \"manifest:hold\"?").await;
            says(browser, ".course", "1 error").await;
            keys(browser, Key::F8 + "").await;
            click(browser, ".cm-diagnosticAction").await;
            says(browser, "aside", "Nothing to mend").await;
            click(browser, ".cm-content").await;
            keys(browser, Key::Control + "s").await;
            is_saved(browser).await;

            // Side by side, the text goes where the form goes, and the form where the cursor goes.
            part(browser, "Side by side").await;
            press(browser, "container").await;
            says(browser, ".files [aria-pressed=true]", "customs.toml").await;
            press(browser, "people.toml").await;
            click(browser, ".cm-content").await;
            keys(browser, Key::Control + Key::End).await;
            says(browser, "#other", "The context of a question").await;
            keys(browser, Key::Control + Key::Home).await;
            keys(browser, [Key::Down.value(); 8].iter().collect::<String>()).await;
            says(browser, "#other", "Users").await;

            // The grid, by keyboard; what is not saved outlives a reload.
            click(browser, "nav a[href^='/roles']").await;
            choose(browser, "input[name=type]", "manifest").await;
            says(browser, "table[role=grid]", "holder").await;
            let first = "document.querySelector('td[tabindex=\"0\"]').focus()";
            browser.execute(first, Vec::new()).await.expect("runs");
            keys(browser, Key::End + Key::Enter).await;
            says(browser, "aside", "gives manifest:hold").await;
            says(browser, "aside", "Live: ").await;
            browser.refresh().await.expect("reloads");
            says(browser, ".course .state", "not saved yet").await;

            // Somebody else saved meanwhile: nothing is written over unless one says so.
            let (_, draft) = service.get("/api/v1/drafts/D-1").await;
            let other = serde_json::json!({ "title": "Holds", "files": draft["files"], "draft": "D-1" });
            let mut other = other;
            let last = other["files"].as_array().expect("files").len() - 1;
            let text = format!("{}\n# Theirs.\n", other["files"][last]["text"].as_str().expect("a text"));
            other["files"][last]["text"] = text.into();
            assert_eq!(service.post(&service.operator, "/api/v1/drafts", &other).await.0, 200);
            press(browser, "Save").await;
            says(browser, "[role=alert]", "Somebody saved D-1 since you read it").await;
            press(browser, "Lay them side by side").await;
            says(browser, ".el-dialog pre[aria-label=Theirs]", "# Theirs.").await;
            answer(browser, "Save mine over it").await;
            is_saved(browser).await;

            click(browser, "nav[aria-label=Course] a[href='/rollout/review/D-1']").await;
            says(browser, "main", "manifest:hold").await;
            press(browser, "Put live").await;
            says(browser, ".el-dialog", "It was never rehearsed").await;
            answer(browser, "Put it live now, for all").await;
            says(browser, "header", "revision 2").await;
            assert!(browser.find(By::Css(".course")).await.is_err(), "the draft has ended");
        },
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_document_is_laid_beside_the_draft_and_written_piece_by_piece() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            page(browser, &service, "/describe/import").await;
            find(browser, "input[name=title]").await.send_keys("Quay" + Key::Enter).await.expect("typed");
            is_saved(browser).await;
            fill(browser, "input[name=application]", "quay").await;
            let document = support::root().join("demo/documents/quay.yaml").canonicalize().expect("a path");
            let file = browser.find(By::Css("main input[type=file]")).await.expect("a field for files");
            file.send_keys(document.display().to_string()).await.expect("chosen");
            press(browser, "Read it").await;
            says(browser, "main", "22 of 23 operations mapped").await;
            says(browser, "main", "2 routes open to anybody").await;
            says(browser, "main", "New (30)").await;
            // Without what somebody may not want, and with what is otherwise here.
            fill(browser, "input[placeholder='Narrow the pieces']", "GET /status").await;
            for text in ["route GET /status", "Otherwise here (1)"] {
                click_by(browser, By::XPath(format!("//label[contains(normalize-space(), '{text}')]")), text)
                    .await;
            }
            press(browser, "Write 30 pieces into the draft").await;
            says(browser, "[role=status]", "Written into").await;
            says(browser, ".course .state", "not saved yet").await;
            part(browser, "Charter text").await;
            says(browser, "aside", "Nothing to mend").await;
            press(browser, "Save").await;
            is_saved(browser).await;
            let (_, draft) = service.get("/api/v1/drafts/D-1").await;
            let text = draft["files"].to_string();
            assert!(
                text.contains("quay-scope-quay-berths")
                    && text.contains("within = [\\\"vessel\\\", \\\"tenant\\\"]"),
                "{text}"
            );
            let status = text.split("/status").nth(1).expect("a route");
            assert!(status.starts_with("\\\"\\nrefuse = true"), "{status}");
            // Read once more, nothing is left but what was not wanted.
            part(browser, "From a document").await;
            fill(browser, "input[name=application]", "quay").await;
            let file = browser.find(By::Css("main input[type=file]")).await.expect("a field for files");
            file.send_keys(document.display().to_string()).await.expect("chosen");
            press(browser, "Read it").await;
            says(browser, "main", "Otherwise here (1)").await;
            says(browser, "main", "New (0)").await;
        },
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_role_is_changed_while_somebody_else_has_the_draft_open() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            let key = serde_json::json!({ "name": "night desk", "rights": [{ "role": "charter-author", "at": "everywhere" }] });
            let (_, night) = service.post(&service.operator, "/api/v1/keys", &key).await;
            let night = night["text"].as_str().expect("a key").to_owned();
            sign_in(browser, &service).await;
            page(browser, &service, "/roles/of/inspector").await;
            says(browser, "main", "Nobody holds two of declaring-agent, inspector where both count").await;
            says(browser, "main", "subject.clearance >= resource.hazard").await;
            find(browser, "input[name=title]").await.send_keys("Holds" + Key::Enter).await.expect("typed");
            is_saved(browser).await;
            says(browser, ".course a.next", "Next: Give").await;

            // What the form changes stands in the text, and the rest stays as it was.
            fill(browser, "input[name=description]", "Looks into containers" + Key::Enter).await;
            says(browser, "main", "Looks into containers").await;
            let clause = "form[aria-label='New clause']";
            choose(browser, &format!("{clause} input[name=clause-permissions]"), "manifest:amend").await;
            fill(browser, &format!("{clause} textarea[name=clause-when]"), "resource.hazzard < 3" + Key::Enter).await;
            says(browser, "[role=alert]", "hazzard").await;
            press(browser, "Take the last change back").await;
            says(browser, ".course .state", "not saved yet").await;
            choose(browser, &format!("{clause} input[name=clause-permissions]"), "manifest:amend").await;
            fill(browser, &format!("{clause} textarea[name=clause-when]"), "resource.hazard < 3" + Key::Enter).await;
            says(browser, "dl", "resource.hazard < 3").await;
            press(browser, "Save").await;
            is_saved(browser).await;
            // The page may still say that what was before is saved.
            let wanted = "when = \\\"resource.hazard < 3\\\"";
            let mut text = String::new();
            for _ in 0..50 {
                text = service.get("/api/v1/drafts/D-1").await.1["files"].to_string();
                if text.contains(wanted) {
                    break;
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            assert!(text.contains(wanted) && text.contains("# "), "it is not saved");

            let there = service.http().put(format!("{}/api/v1/drafts/D-1/presence", service.url));
            assert_eq!(service.send(there.bearer_auth(&night)).await.0, 200);
            browser.refresh().await.expect("reloads");
            says(browser, ".course [role=status]", "open to night desk too").await;

            // What everybody has, and where it is read from, has forms too.
            page(browser, &service, "/describe").await;
            press(browser, "user").await;
            let attribute = "form[aria-label='One attribute']";
            fill(browser, &format!("{attribute} input[name=new-attribute]"), "watch").await;
            fill(browser, &format!("{attribute} input[placeholder=any]"), "day, night" + Key::Enter).await;
            says(browser, "article", "text; one of day, night").await;
            page(browser, &service, "/give/tenant-roles").await;
            says(browser, "section[aria-labelledby=may]", "only when").await;
        },
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn roles_are_given_and_relationships_read() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            page(browser, &service, "/give?at=vessel:kestrel").await;
            says(browser, "main table", "arrives here").await;
            choose(browser, "input[name=role]", "deckhand").await;
            let to = "form[aria-labelledby=give] input[name=to]";
            choose(browser, to, "user:tomsa").await;
            press(browser, "Give it").await;
            says(browser, "form [role=alert]", "tomsa").await;
            find(browser, to).await.send_keys(Key::Backspace + "").await.expect("typed");
            choose(browser, to, "user:tomas").await;
            press(browser, "Give it").await;
            says(browser, "form [role=status]", "Given, and in force").await;
            says(browser, "main table", "user:tomas").await;
            let end = find(browser, "button[aria-label$='deckhand of user:tomas']").await;
            end.click().await.expect("clicked");
            answer(browser, "End it").await;
            says(browser, "header", "position 7").await;

            // On standby until there is a reason.
            page(browser, &service, "/give/standby").await;
            choose(browser, "input[name=grant]", "g-812").await;
            fill(browser, "input[name=minutes]", "30").await;
            fill(browser, "input[name=reason]", "permit 5531" + Key::Enter).await;
            says(browser, "form [role=alert]", "may be activated only while context.zone == 'quay'").await;
            fill(browser, "input[name=context]", "zone=quay" + Key::Enter).await;
            says(browser, "main table", "permit 5531").await;
            page(browser, &service, "/").await;
            says(browser, "main", "permit 5531").await;

            // Groups, and a tenant's own role.
            page(browser, &service, "/give/groups?group=group:night").await;
            says(browser, "main table", "user:ines").await;
            fill(browser, "section .field input", "user:tomas" + Key::Enter).await;
            says(browser, "main table", "user:tomas").await;
            page(browser, &service, "/give/tenant-roles").await;
            choose(browser, "input[name=tenant]", "northline").await;
            fill(browser, "input[name=role-key]", "looker").await;
            click(browser, "label:has(input[value='vessel:view'])").await;
            press(browser, "Write it").await;
            says(browser, "main table", "northline/looker").await;
            page(browser, &service, "/give/beside?by=user:ines&and=user:rui").await;
            says(browser, "section[aria-label='user:rui'] tr.marked", "crane-driver").await;

            // What relationships confer, and a rule read on something real.
            page(browser, &service, "/refine?on=manifest:m-204").await;
            says(browser, ".margin", "manifest-owner").await;
            press(browser, "vessel:kestrel").await;
            says(browser, ".own", "vessel:kestrel").await;
            page(browser, &service, "/refine/rules").await;
            press(browser, "own-declaration").await;
            let fields = browser.find_all(By::Css("section[aria-labelledby=reading] .field input")).await;
            let fields = fields.expect("fields");
            fields[0].send_keys("user:tomas").await.expect("typed");
            fields[1].send_keys("manifest:m-204" + Key::Enter).await.expect("typed");
            says(browser, "section[aria-labelledby=reading]", "Its condition is true").await;
            page(browser, &service, "/refine/confers").await;
            says(browser, "main", "makes its declarant its manifest-owner").await;
        },
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_register_is_searched_changed_and_loaded() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            click(browser, "nav a[href='/register']").await;
            fill(browser, "input[name=containing]", "INES" + Key::Enter).await;
            says(browser, "main table", "clearance 3").await;
            click(browser, "main table a").await;
            says(browser, "h1", "user:ines").await;
            says(browser, "main", "inspection:i-12").await;

            // What somebody else changed meanwhile is not written over.
            let fact = serde_json::json!({ "set": ["user:ines.clearance = 4"] });
            click(browser, "details summary").await;
            fill(browser, "textarea[name=line]", "{").await;
            assert_eq!(service.post(&service.operator, "/api/v1/facts", &fact).await.0, 200);
            press(browser, "Write it").await;
            says(browser, "[role=alert]", "This is no JSON").await;
            let line = "{\"tenants\":[\"northline\"],\"attributes\":{\"clearance\":5}}";
            fill(browser, "textarea[name=line]", line).await;
            press(browser, "Write it").await;
            says(browser, "[role=alert]", "not as you read it").await;
            browser.refresh().await.expect("reloads");
            click(browser, "details summary").await;
            fill(browser, "textarea[name=line]", line).await;
            press(browser, "Write it").await;
            says(browser, "dl", "5").await;
            says(browser, "section[aria-labelledby=history]", "user:ines described").await;

            // A file beside the register, before anything is written.
            page(browser, &service, "/register/load").await;
            let line = "{\"entity\":\"user:ines\",\"attributes\":{\"clearance\":2},\"merge\":true}";
            fill(browser, "textarea[name=lines]", format!("{line}\n{{\"entity\":\"usr:x\"}}")).await;
            press(browser, "Compare with the register").await;
            says(browser, "[role=alert]", "usr").await;
            fill(browser, "textarea[name=lines]", line).await;
            press(browser, "Compare with the register").await;
            says(browser, "section[aria-labelledby=would]", "clearance 5 → 2").await;
            press(browser, "Write them").await;
            says(browser, "[role=status]", "1 fact written").await;

            // An answer that is right is kept as a case, and exported.
            page(
                browser,
                &service,
                "/try?subject=user:ines&permission=manifest:release&resource=manifest:m-204",
            )
            .await;
            says(browser, "article .verdict", "Denied").await;
            press(browser, "Keep it").await;
            says(browser, "[role=status]", "Kept as case 1").await;
            press(browser, "Suppose this").await;
            says(browser, ".second article .verdict", "Allowed").await;
            let call = service.http().get(format!("{}/api/v1/cases/file", service.url));
            let file = call.bearer_auth(&service.operator).send().await.expect("answers").text().await;
            assert!(file.expect("a text").contains("may-not = [\"manifest:release\"]"));
        },
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_careless_draft_is_rehearsed() {
    tell_on(Service::whole_demo, async |browser, service| {
        let browser = &browser;
        sign_in(browser, &service).await;
        // The demo brings both; what is live was rehearsed first.
        says(browser, "section[aria-labelledby=waits]", "Rehearsal of D-1: 40 of 41 cases pass").await;
        click(browser, "nav a[href='/rehearse']").await;
        says(browser, "#run", "1 refuted, 12 gain, 7 lose").await;
        press(browser, "Rehearse what is live").await;
        says(browser, "#run", "41 of 41 cases pass, 12 guarantees proved").await;
        page(browser, &service, "/describe").await;
        press(browser, "D-1").await;
        click(browser, ".course a[href='/rehearse']").await;
        press(browser, "Rehearse D-1 against live").await;
        says(browser, "#run", "1 refuted, 12 gain, 7 lose").await;
        says(browser, "section[aria-labelledby=broken]", "Nobody releases what they declared").await;
        says(browser, "section[aria-labelledby=failed]", "should").await;
        says(browser, "section[aria-labelledby=shift]", "loses manifest:view").await;
        press(browser, "Rehearse D-1 against live").await;
        says(browser, "section[aria-labelledby=since]", "Everything came out as it did").await;
        part(browser, "Guarantees").await;
        says(browser, "main table", "Only inspectors release cargo").await;
        part(browser, "Samples and cases").await;
        says(browser, "section[aria-labelledby=files]", "cases.toml").await;
        says(browser, "section[aria-labelledby=by-form]", "Nobody ever may").await;
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_token_is_read_and_a_request_is_checked_and_mapped() {
    tell_on(Service::port, async |browser, service| {
        let browser = &browser;
        let token = service.token_of("rui").await;
        let key = service.proxy_key(true).await;
        let check =
            service.http().get(format!("{}/route-check", service.url)).header("ostrog-proxy-key", key);
        let check = check.header("x-original-host", "customs.sorrel-bay.example");
        let check =
            check.header("x-original-method", "GET").header("x-original-uri", "/manifests/m-204/print");
        assert_eq!(check.send().await.expect("an answer").status(), 403);

        sign_in(browser, &service).await;
        click(browser, "nav a[href='/connect']").await;
        says(browser, "main table", "customs at customs.sorrel-bay.example").await;
        part(browser, "Issuers").await;
        press(browser, "Try").await;
        says(browser, "section[aria-labelledby=tried]", "3 of 3 can be used").await;
        says(browser, "section[aria-labelledby=means-port-id]", "\"Customs Night\" is group:night").await;

        part(browser, "Tokens").await;
        fill(browser, "textarea[name=token]", token.as_str()).await;
        press(browser, "Read it").await;
        says(browser, ".reader", "It names user:rui").await;
        says(browser, ".reader", "not a member").await;
        says(browser, ".reader", "manifest:view on manifest:m-204").await;

        part(browser, "Routes and affordances").await;
        fill(browser, "input[name=check-path]", "/manifests/m-204").await;
        press(browser, "Check").await;
        says(browser, "form[aria-labelledby=check]", "It is refused").await;
        fill(browser, "input[name=check-token]", token.as_str()).await;
        keys(browser, Key::Enter + "").await;
        says(browser, "form[aria-labelledby=check]", "user:rui takes GET /manifests/{manifest}").await;
        says(browser, "form[aria-labelledby=check]", "It passes").await;
        says(browser, "section[aria-labelledby=unmapped]", "GET /manifests/{manifest}/print").await;
        press(browser, "Map it").await;
        says(browser, "header", "Draft D-1").await;
        find(browser, "input[name=about]").await.send_keys(Key::Enter + "").await.expect("typed");
        let refused = "//li[contains(@class, 'el-select-dropdown__item')][contains(., 'it is refused')]";
        click_by(browser, By::XPath(refused), "it is refused").await;
        press(browser, "Add the route").await;
        says(browser, "section[aria-labelledby=routes]", "refused, whoever asks").await;
        press(browser, "Save").await;
        is_saved(browser).await;

        page(browser, &service, "/try").await;
        fill(browser, "#token", token.as_str()).await;
        fill(browser, "input[placeholder='manifest:release']", "manifest:view").await;
        fill(browser, "input[placeholder='manifest:m-204, or none']", "manifest:m-204" + Key::Enter).await;
        says(browser, ".answers", "in group:duty-inspectors, vouched for by port-id").await;
        assert!(!browser.current_url().await.expect("an address").as_str().contains("eyJ"));
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_workspace_leads_to_a_refusal_and_the_opposite_answer() {
    let start = |folder: &std::path::Path| Service::empty(&folder.join("data"));
    tell_on(start, async |browser, service| {
        let browser = &browser;
        browser.goto(&service.url).await.expect("opens");
        find(browser, "#key").await.send_keys(service.operator.clone() + Key::Enter).await.expect("typed");
        says(browser, "section[aria-labelledby=first]", "Nothing is live here yet").await;
        press(browser, "Put it live").await;
        press(browser, "Register them").await;
        press(browser, "Ask it").await;
        says(browser, ".first .answer", "Denied rule:closed-pier").await;
        press(browser, "Open the pier").await;
        press(browser, "Ask again").await;
        says(browser, ".first .answer", "Allowed role:master").await;
        says(browser, "header", "Live: A small harbour").await;
        click(browser, ".first a[href='/rehearse']").await;
        press(browser, "Rehearse what is live").await;
        says(browser, "#run", "3 of 3 cases pass, 1 guarantee proved").await;
    })
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_done_is_taken_back() {
    tell(
        |_, _| (),
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            // A grant that ended is given again; the table holds as many as before.
            page(browser, &service, "/give?at=vessel:kestrel").await;
            let ids = async || {
                let (_, held) = service.get("/api/v1/holdings?at=vessel:kestrel").await;
                held["items"].as_array().expect("a list").len()
            };
            let before = ids().await;
            let many = |count: usize| format!("{count} grants arrive at vessel:kestrel");
            says(browser, "#held", &many(before)).await;
            click(browser, "button[aria-label^='End g-']").await;
            answer(browser, "End it").await;
            says(browser, "#held", &many(before - 1)).await;
            press(browser, "Undo").await;
            says(browser, "#held", &many(before)).await;
            says(browser, ".el-notification", "Taken back").await;
            // So is what was written of an entity, unless somebody changed it since.
            page(browser, &service, "/register/of/user:ines").await;
            for (theirs, told) in [(None, "Taken back"), (Some("user:ines.clearance = 2"), "Not taken back")]
            {
                let (_, was) = service.get("/api/v1/entities/user:ines").await;
                click(browser, "summary").await;
                fill(browser, "input[name=clearance]", "5").await;
                press(browser, "Write what the form says").await;
                says(browser, ".el-notification", "user:ines is written").await;
                if let Some(fact) = theirs {
                    let facts = serde_json::json!({ "set": [fact], "remove": [] });
                    assert_eq!(service.post(&service.operator, "/api/v1/facts", &facts).await.0, 200);
                }
                press(browser, "Undo").await;
                says(browser, ".el-notification", told).await;
                let (_, now) = service.get("/api/v1/entities/user:ines").await;
                match theirs {
                    None => assert_eq!(now["entity"], was["entity"]),
                    Some(_) => assert_eq!(now["entity"]["attributes"]["clearance"], 2),
                }
                page(browser, &service, "/register/of/user:ines").await;
            }
        },
    )
    .await;
}

/// What the first page loads, as it comes over the network.
#[tokio::test(flavor = "multi_thread")]
async fn the_first_page_loads_less_than_250_kilobytes_of_script() {
    const LOADED: &str = "
        const all = performance.getEntriesByType('resource').filter((one) => one.name.endsWith('.js'))
        return [all.length, all.reduce((bytes, one) => bytes + one.encodedBodySize, 0), performance.now()]";
    tell(
        |_, _| {},
        async |browser, service| {
            let browser = &browser;
            sign_in(browser, &service).await;
            page(browser, &service, "/").await;
            says(browser, "section[aria-labelledby=live]", "Port of Sorrel Bay").await;
            let (files, bytes, after): (u64, u64, f64) = browser
                .execute(LOADED, Vec::new())
                .await
                .and_then(|told| told.convert())
                .expect("the browser tells");
            println!("{files} scripts, {bytes} bytes, there after {after:.0} ms");
            assert!(files > 3 && (50_000..250_000).contains(&bytes), "{files} scripts, {bytes} bytes");
        },
    )
    .await;
}

/// Every page, in both themes, wide and narrow, live and in a draft: no serious or critical violation
/// of WCAG 2.2 AA.
#[tokio::test(flavor = "multi_thread")]
async fn every_page_can_be_read_by_everybody() {
    const PAGES: [&str; 32] = [
        "/",
        "/describe",
        "/describe/text",
        "/describe/beside",
        "/describe/import",
        "/roles/manifest",
        "/roles/of/inspector",
        "/give?at=vessel:kestrel",
        "/give/standby",
        "/give/groups?group=group:night",
        "/give/tenant-roles",
        "/give/beside?by=user:ines&and=user:rui",
        "/refine?on=manifest:m-204",
        "/refine/rules",
        "/refine/confers",
        "/connect",
        "/try?subject=user:ines&permission=manifest:release&resource=manifest:m-204",
        "/rehearse",
        "/rehearse/guarantees",
        "/rehearse/samples",
        "/rollout",
        "/rollout/review/D-1",
        "/setup",
        "/setup/operators",
        "/setup/nodes",
        "/register?containing=a&type=user",
        "/register/load",
        "/register/of/user:ines",
        "/connect/issuers",
        "/connect/tokens",
        "/connect/routes",
        "/refine/conditions",
    ];
    const LOOK: &str = "const done = arguments[arguments.length - 1];
        axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] }).then((found) => done(
            found.violations.filter((one) => ['serious', 'critical'].includes(one.impact))
                .map((one) => one.id + ': ' + one.nodes.map((node) => node.target.join(' ')).join(', '))
                .concat(document.documentElement.scrollWidth > innerWidth + 1 ? ['wider than the window'] : [])))";
    let axe = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
    let axe = std::fs::read_to_string(axe).expect("the console's packages are installed");
    tell_on(Service::port, async move |browser, service| {
        let browser = &browser;
        sign_in(browser, &service).await;
        let tools = browser.cdp();
        let mut wrong = Vec::new();
        for (theme, width, drafting) in
            [("light", 1280, false), ("dark", 400, true), ("dark", 1280, true), ("light", 400, false)]
        {
            let metrics =
                serde_json::json!({ "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false });
            tools.send_raw("Emulation.setDeviceMetricsOverride", metrics).await.expect("is set");
            let media =
                serde_json::json!({ "features": [{ "name": "prefers-color-scheme", "value": theme }] });
            tools.send_raw("Emulation.setEmulatedMedia", media).await.expect("is set");
            if drafting && service.get("/api/v1/drafts").await.1 == serde_json::json!([]) {
                page(browser, &service, "/describe").await;
                find(browser, "input[name=title]").await.send_keys("Look" + Key::Enter).await.expect("typed");
                is_saved(browser).await;
            } else if !drafting && browser.find(By::Css(".draft button")).await.is_ok() {
                click(browser, ".draft button").await;
            }
            for path in PAGES {
                page(browser, &service, path).await;
                if browser
                    .query(By::Css("h1"))
                    .wait(Duration::from_secs(20), Duration::from_millis(50))
                    .first()
                    .await
                    .is_err()
                {
                    let shown = browser.source().await.unwrap_or_default();
                    panic!("{path} {theme} {width} shows no page: {shown}");
                }
                // Until nothing on it is being read any more.
                for _ in 0..200 {
                    let waits = browser.find_all(By::Css("main .el-skeleton")).await.map(|all| all.len());
                    let text = find(browser, "main").await.text().await.unwrap_or_default();
                    if waits.is_ok_and(|count| count == 0) && !text.contains(" …") {
                        break;
                    }
                    tokio::time::sleep(Duration::from_millis(25)).await;
                }
                browser.execute(&axe, Vec::new()).await.expect("runs");
                let found = browser.execute_async(LOOK, Vec::new()).await.expect("runs");
                let found: Vec<String> = found.convert().expect("texts");
                wrong.extend(found.into_iter().map(|what| format!("{path} {theme} {width}: {what}")));
            }
        }
        assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    })
    .await;
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
    choose(browser, "input[name=type]", "manifest").await;
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
    says(browser, "main .el-timeline", "user:ines described").await;

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
    says(browser, ".el-dialog", "Whoever works with it is signed out").await;
    answer(browser, "End it now").await;
    for _ in 0..100 {
        let rows =
            browser.find_all(By::Css("section[aria-labelledby=all] tbody tr")).await.expect("rows").len();
        if rows == 2 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(
        browser.find_all(By::Css("section[aria-labelledby=all] tbody tr")).await.expect("rows").len(),
        2
    );

    // A draft: what it changes, in words; live, and back.
    find(browser, "nav a[href='/rollout']").await.click().await.expect("clicked");
    find(browser, "a[href='/rollout/review/D-1']").await.send_keys(Key::Enter + "").await.expect("typed");
    says(browser, "main", "gives manifest:release always").await;
    press(browser, "Put live").await;
    answer(browser, "Put it live now, for all").await;
    says(browser, "main", "D-1 is revision 2, and live").await;
    says(browser, "header", "revision 2").await;
    find(browser, "nav[aria-label=Areas] a[href='/rollout']").await.click().await.expect("clicked");
    find(browser, "button[aria-label='Roll back to 1, customs']").await.click().await.expect("clicked");
    fill(browser, "input[name=note]", "too wide").await;
    answer(browser, "Roll back now").await;
    says(browser, "main", "Back to revision 1 for customs").await;
    says(browser, "header", "revision 1").await;

    // Signed out, the page is closed.
    find(browser, "header button").await.click().await.expect("clicked");
    find(browser, "#key").await;
    browser.goto(format!("{url}/roles/manifest")).await.expect("opens");
    find(browser, "#key").await;
}
