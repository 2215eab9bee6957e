//! Whole histories of changes of policy, by several people on two nodes, beside a model of what the documents say: what
//! is done and refused is the same, and nothing is ever live that nobody approved and that is not marked.

use crate::release::{approve, of_person, rehearse, with_reviews};
use crate::support::{Answer, CHARTER, Service};
use ostrog_wire::charter::{DraftText, RevisionShown};
use ostrog_wire::release::{LiveShown, StepShown};
use rstest::rstest;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};

const APPS: [&str; 2] = ["customs", "quay"];
const PEOPLE: [&str; 3] = ["vera", "wim", "tea"];

type Bases = BTreeMap<&'static str, i64>;

/// A draft, as it is written down in the documents.
#[derive(Clone, Debug)]
struct Draft {
    editors: BTreeSet<usize>,
    bases: Bases,
    /// What it was rehearsed against, since it was last saved.
    rehearsed: Option<Bases>,
    returned: bool,
}

#[derive(Clone, Debug)]
struct Revision {
    editors: BTreeSet<usize>,
    bases: Bases,
    approved: bool,
    urgent: bool,
    barred: bool,
}

/// What there is, and what may become of it.
#[derive(Clone, Debug)]
struct Model {
    drafts: BTreeMap<i64, Draft>,
    revisions: BTreeMap<i64, Revision>,
    /// By application, what was live and was not gone back from, oldest first.
    stacks: BTreeMap<&'static str, Vec<i64>>,
    /// Each step of each application.
    steps: BTreeMap<&'static str, Vec<(i64, bool)>>,
}

impl Model {
    fn live(&self) -> Bases {
        self.stacks.iter().map(|(app, stack)| (*app, *stack.last().expect("something is live"))).collect()
    }

    fn number(&mut self, draft: i64, by: usize, approved: bool) -> i64 {
        let Draft { mut editors, bases, .. } = self.drafts.remove(&draft).expect("a draft");
        if !approved {
            editors.insert(by);
        }
        let number = self.revisions.keys().last().copied().unwrap_or(0) + 1;
        let revision = Revision { editors, bases, approved, urgent: !approved, barred: false };
        self.revisions.insert(number, revision);
        number
    }

    fn may_approve(&self, draft: i64, who: usize) -> bool {
        let (draft, live) = (&self.drafts[&draft], self.live());
        let is_ready = draft.rehearsed.as_ref() == Some(&live) && draft.bases == live && !draft.returned;
        is_ready && !draft.editors.contains(&who)
    }

    /// Whether something may go live there: what is live is what it was made from, and not itself already.
    fn fits(&self, number: Option<i64>, bases: &Bases, apps: &[&'static str]) -> bool {
        let live = self.live();
        let is_there = |app: &&str| number == Some(live[*app]);
        apps.iter().all(|app| is_there(app) || bases.get(app) == live.get(app)) && !apps.iter().all(is_there)
    }

    fn may_roll_out(&self, number: i64, apps: &[&'static str]) -> bool {
        let revision = &self.revisions[&number];
        revision.approved && !revision.barred && self.fits(Some(number), &revision.bases, apps)
    }

    fn goes_live(&mut self, number: i64, apps: &[&'static str], back: bool) {
        for app in apps {
            let stack = self.stacks.get_mut(app).expect("an application");
            if stack.last() != Some(&number) {
                stack.push(number);
            }
            self.steps.entry(app).or_default().push((number, back));
        }
    }

    /// What an application goes back to.
    fn way_back(&self, app: &str) -> Option<usize> {
        let stack = &self.stacks[app];
        let now = stack.last().expect("something is live");
        let counts = |number: &i64| self.revisions[number].approved && !self.revisions[number].barred;
        (0..stack.len() - 1).rev().find(|at| stack[*at] != *now && counts(&stack[*at]))
    }
}

struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).expect("fits") % bound
    }

    fn of(&mut self, all: impl Iterator<Item = i64>) -> Option<i64> {
        let all: Vec<i64> = all.collect();
        if all.is_empty() { None } else { Some(all[self.below(all.len())]) }
    }
}

fn done(answer: &Answer, expected: bool, what: &str) {
    let is = answer.status.is_success();
    assert!(is || [403, 409].contains(&answer.status.as_u16()), "{what}: {answer}");
    assert_eq!(is, expected, "{what}: {answer}");
}

/// Both nodes tell what the model has.
async fn agree(nodes: &[&Service], key: &str, model: &Model, what: &str) {
    let (_, position) = nodes[0].node.live_revision().expect("is live");
    let furthest = nodes.iter().filter_map(|node| node.node.live_revision()).map(|(_, at)| at).max();
    let wanted = furthest.unwrap_or(position).to_string();
    for node in nodes {
        node.node.wait_for(&wanted, None).await.expect("follows");
        let live: Vec<LiveShown> = node.get(key, "/api/v1/live").await.read();
        let told: BTreeMap<&str, i64> =
            live.iter().map(|one| (one.application.as_str(), one.revision)).collect();
        assert_eq!(told, model.live(), "after {what}");
        for one in &live {
            let revision = &model.revisions[&one.revision];
            assert!(revision.approved || revision.urgent, "{what}");
            assert_eq!(one.urgent, revision.urgent && !revision.approved, "after {what}");
            let back = model.way_back(&one.application).map(|at| model.stacks[one.application.as_str()][at]);
            assert_eq!(one.back, back, "after {what}: {model:?}");
        }
    }
}

#[rstest]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_done_and_refused_is_what_the_documents_say(#[values(1, 2, 3)] seed: u64) {
    let (service, vera, wim, _) = with_reviews().await;
    let beside = service.beside().await;
    let keys = [vera, wim, of_person(&service, "tea").await];
    let nodes = [&service, &beside];
    let mut dice = Dice(seed);
    let alone = Revision {
        editors: BTreeSet::new(),
        bases: Bases::new(),
        approved: true,
        urgent: false,
        barred: false,
    };
    let mut model = Model {
        drafts: BTreeMap::new(),
        revisions: [(1, alone)].into(),
        stacks: APPS.map(|app| (app, vec![1])).into(),
        steps: APPS.map(|app| (app, vec![(1, false)])).into(),
    };
    let (mut kept, mut refused) = (BTreeMap::new(), BTreeMap::new());
    for step in 0..300 {
        let node = nodes[dice.below(2)];
        let mut who = dice.below(3);
        let apps: &[&'static str] = [&APPS[..], &APPS[..1], &APPS[1..]][dice.below(3)];
        let r#for = apps.join(",");
        let mut draft = dice.of(model.drafts.keys().copied());
        let mut revision = dice.of(model.revisions.keys().copied()).expect("there is one");
        let mut what = dice.below(12);
        if dice.below(2) == 0 {
            // Half of it is what somebody would do who gets on.
            let all: Vec<(i64, usize)> =
                model.drafts.keys().flat_map(|number| (0..3).map(|who| (*number, who))).collect();
            let next = all.into_iter().find(|(number, who)| model.may_approve(*number, *who));
            let goes = model.revisions.keys().rev().find(|number| model.may_roll_out(**number, apps));
            let onto = model.drafts.iter().find(|(_, draft)| draft.bases == model.live() && !draft.returned);
            match (next, goes, onto) {
                (Some((number, by)), _, _) => (what, draft, who) = (3, Some(number), by),
                (_, Some(number), _) => (what, revision) = (6, *number),
                (_, _, Some((number, _))) => (what, draft) = (11, Some(*number)),
                _ => {}
            }
        }
        let key = &keys[who];
        let (what, is) = match (what, draft) {
            (0 | 1, Some(number)) => {
                let onto_live = dice.below(2) == 0;
                let text = format!("{CHARTER}# {step}\n");
                let saved = json!({ "title": "a change", "files": [{ "path": "charter.toml", "text": text }],
                                    "draft": format!("D-{number}"), "onto-live": onto_live });
                let saved = node.post(key, "/api/v1/drafts", &saved).await;
                done(&saved, true, "save again");
                let live = model.live();
                let draft = model.drafts.get_mut(&number).expect("a draft");
                draft.editors.insert(who);
                (draft.rehearsed, draft.returned) = (None, false);
                if onto_live {
                    draft.bases = live;
                }
                ("save again", true)
            }
            (2, Some(number)) => {
                let note = json!({ "note": "not like that" });
                done(
                    &node.post(key, &format!("/api/v1/reviews/D-{number}/return"), &note).await,
                    true,
                    "return",
                );
                model.drafts.get_mut(&number).expect("a draft").returned = true;
                ("return", true)
            }
            (3 | 4, Some(number)) => {
                let may = model.may_approve(number, who);
                done(&approve(node, key, &format!("D-{number}")).await, may, "approve");
                if may {
                    model.number(number, who, true);
                }
                ("approve", may)
            }
            (5, Some(number)) => {
                let may = model.fits(None, &model.drafts[&number].bases.clone(), apps);
                let asked =
                    json!({ "what": format!("D-{number}"), "for": r#for, "urgent": true, "note": "a gale" });
                done(&node.post(key, "/api/v1/rollouts", &asked).await, may, "urgent");
                if may {
                    let number = model.number(number, who, false);
                    model.goes_live(number, apps, false);
                }
                ("urgent", may)
            }
            (6 | 7, _) => {
                let may = model.may_roll_out(revision, apps);
                let asked = json!({ "what": revision.to_string(), "for": r#for });
                done(&node.post(key, "/api/v1/rollouts", &asked).await, may, "roll out");
                if may {
                    model.goes_live(revision, apps, false);
                }
                ("roll out", may)
            }
            (8, _) => {
                let ways: Vec<Option<usize>> = apps.iter().map(|app| model.way_back(app)).collect();
                let may = ways.iter().all(Option::is_some);
                let asked = json!({ "for": r#for, "note": "back" });
                done(&node.post(key, "/api/v1/rollbacks", &asked).await, may, "roll back");
                if may {
                    for (app, at) in apps.iter().zip(ways.into_iter().flatten()) {
                        let stack = model.stacks.get_mut(app).expect("an application");
                        stack.truncate(at + 1);
                        let to = stack[at];
                        model.steps.entry(app).or_default().push((to, true));
                    }
                }
                ("roll back", may)
            }
            (9, _) => {
                let may = !model.revisions[&revision].approved
                    && !model.revisions[&revision].editors.contains(&who);
                done(&approve(node, key, &format!("R-{revision}")).await, may, "approve an urgent one");
                if may {
                    model.revisions.get_mut(&revision).expect("a revision").approved = true;
                }
                ("approve an urgent one", may)
            }
            (10, _) if dice.below(3) == 0 => {
                let may = !model.revisions[&revision].barred
                    && !model.live().values().any(|live| *live == revision);
                let asked = json!({ "note": "it lets too many in" });
                done(&node.post(key, &format!("/api/v1/revisions/{revision}/bar"), &asked).await, may, "bar");
                if may {
                    model.revisions.get_mut(&revision).expect("a revision").barred = true;
                }
                ("bar", may)
            }
            (10 | 11, Some(number)) => {
                assert_eq!(rehearse(node, key, &format!("D-{number}")).await.state, "held");
                let live = model.live();
                model.drafts.get_mut(&number).expect("a draft").rehearsed = Some(live);
                ("rehearse", true)
            }
            _ if model.drafts.len() < 3 => {
                let text = format!("{CHARTER}# {step}, of {}\n", PEOPLE[who]);
                let saved =
                    json!({ "title": "a change", "files": [{ "path": "charter.toml", "text": text }] });
                let saved = node.post(key, "/api/v1/drafts", &saved).await;
                let number =
                    saved.read::<DraftText>().draft.id.trim_start_matches("D-").parse().expect("a number");
                let editors = [who].into();
                let draft = Draft { editors, bases: model.live(), rehearsed: None, returned: false };
                model.drafts.insert(number, draft);
                ("save", true)
            }
            _ => {
                let number = draft.expect("there are three");
                let ended = node.call(key, &format!("DELETE /api/v1/drafts/D-{number}"), None).await;
                done(&ended, true, "discard");
                model.drafts.remove(&number);
                ("discard", true)
            }
        };
        *(if is { &mut kept } else { &mut refused }).entry(what).or_insert(0) += 1;
        agree(&nodes, &keys[0], &model, what).await;
    }
    let much = |of: &BTreeMap<&str, i32>, what: &str| of.get(what).is_some_and(|times| *times > 4);
    for what in ["approve", "urgent", "roll out", "roll back"] {
        assert!(much(&kept, what), "{what}: {kept:?}");
    }
    for what in ["approve", "roll out"] {
        assert!(much(&refused, what), "{what}: {refused:?}");
    }
    // What is recorded can be read again, and comes to the same: here, and on a node that starts now.
    let late = service.beside().await;
    agree(&[&service, &beside, &late], &keys[0], &model, "all of it").await;
    let revisions: Vec<RevisionShown> = late.get(&keys[0], "/api/v1/revisions").await.read();
    for one in &revisions {
        let known = &model.revisions[&one.number];
        assert_eq!((one.approved, one.barred.is_some()), (known.approved, known.barred), "{one:?}");
    }
    for app in APPS {
        let steps: Vec<StepShown> =
            late.get(&keys[0], &format!("/api/v1/rollouts?application={app}")).await.read();
        let told: Vec<(i64, bool)> =
            steps.iter().rev().map(|step| (step.revision.expect("one is live"), step.back)).collect();
        let known = &model.steps[app];
        assert!(known.ends_with(&told), "{told:?} {known:?}");
    }
}
