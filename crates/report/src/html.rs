//! One HTML page: it opens without a network and reads well on paper.

use crate::junit::failure;
use crate::{Rehearsed, counted};
use maud::{DOCTYPE, Markup, PreEscaped, html as page};
use ostrog_core::rehearse::{GuaranteeReport, Outcome};
use ostrog_core::shift::{Line, Shift};
use std::collections::BTreeSet;

const STYLE: &str = include_str!("page.css");

/// The report as a page.
pub fn html(found: &Rehearsed) -> String {
    let shown = page! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { "Rehearsal of " (found.of) }
                style { (PreEscaped(STYLE)) }
            }
            body {
                main {
                    (head(found))
                    (guarantees(found))
                    (cases(found))
                    (shift(found))
                    (coverage(found))
                    (signature(found))
                }
            }
        }
    };
    shown.into_string()
}

fn head(found: &Rehearsed) -> Markup {
    page! {
        header {
            p.soft { "Rehearsal" }
            h1 { (found.name) }
            p.sum class=(if found.holds() { "allowed" } else { "denied" }) {
                (found.in_words()) "."
            }
            dl {
                dt { "Charter" } dd { (found.of) br; code { (found.charter) } }
                @if let Some(against) = &found.against {
                    dt { "Against" } dd { (against.of) br; code { (against.charter) } }
                }
                dt { "Run" } dd { (found.at) ", Ostrog " (found.version) }
            }
        }
    }
}

fn guarantees(found: &Rehearsed) -> Markup {
    let (holding, failing): (Vec<_>, Vec<_>) = found.guarantees.iter().partition(|one| one.holds());
    page! {
        section {
            h2 { "Guarantees" }
            @if found.guarantees.is_empty() { p.soft { "None is stated." } }
            @for one in failing { (failed(one)) }
            @if !holding.is_empty() {
                table {
                    thead { tr { th { "Proved for every request there can be" } th { "Claim" } } }
                    tbody {
                        @for one in holding { tr { td { span.allowed { "proved" } " " (one.name) } td { (claim(one)) } } }
                    }
                }
            }
        }
    }
}

fn claim(one: &GuaranteeReport) -> Markup {
    page! {
        code { (one.claim) }
        @if let Some(when) = &one.when { " when " code { (when) } }
        @if let Some(assume) = &one.assume { br; "assumed: " code { (assume) } }
    }
}

fn failed(one: &GuaranteeReport) -> Markup {
    let tone = if one.outcome == Outcome::Undecided { "undetermined" } else { "denied" };
    page! {
        article {
            h3 { span class=(tone) { (one.outcome.word()) } " " (one.name) }
            p { (claim(one)) " " span.soft { (one.place) } }
            @if let Some(why) = &one.why { p { (why) "." } }
            @if let Some((first, facts)) = one.told.split_first() {
                p.sentence { (first) }
                ul { @for fact in facts { li { (fact) } } }
            }
            @if let Some(sample) = &one.sample {
                details { summary { "As samples and a case" } pre { (sample) } }
            }
        }
    }
}

fn cases(found: &Rehearsed) -> Markup {
    let (passed, failed): (Vec<_>, Vec<_>) = found.cases.iter().partition(|case| case.passed);
    page! {
        section {
            h2 { "Cases" }
            @for case in failed {
                article {
                    h3 { span.denied { "failed" } " " (case.name) }
                    p.soft { (case.place) }
                    ul { @for check in case.checks.iter().filter(|check| !check.passed) { li.sentence { (failure(check)) } } }
                }
            }
            @if !passed.is_empty() {
                details open[passed.len() <= 60] {
                    summary { (counted(passed.len(), "case")) " " (if passed.len() == 1 { "passes" } else { "pass" }) }
                    table {
                        tbody {
                            @for case in passed {
                                tr {
                                    td {
                                        span.allowed { "passed" } " " (case.name)
                                        @for check in &case.checks {
                                            @if let Some(doubt) = &check.doubt { br; span.undetermined { (check.permission) ": " (doubt) } }
                                        }
                                    }
                                    td.soft { (case.place) }
                                }
                            }
                        }
                    }
                }
            }
        }
    }
}

fn shift(found: &Rehearsed) -> Markup {
    let Some(shift) = &found.shift else { return page! {} };
    page! {
        section {
            h2 { "Who gains and who loses" }
            p {
                (shift.in_words()) ", of " (counted(shift.subjects, "subject")) "; "
                (counted(shift.permissions.len(), "permission")) " could have changed; "
                (counted(shift.asked, "question")) " asked before and after."
            }
            @if shift.is_nothing() { p.soft { "Nobody may do anything that they could not before, nor the other way round." } }
            @else { (chart(shift)) }
            @for (lost, title) in [(true, "Lost"), (false, "Gained")] {
                @let lines: Vec<&Line> = shift.lines.iter().filter(|line| line.lost == lost).collect();
                @if !lines.is_empty() {
                    h3 { (title) }
                    table {
                        thead { tr { th { "Permission" } th { "Who" } th { "On" } th { "Before" } th { "After" } } }
                        tbody { @for line in lines { (moved(line)) } }
                    }
                }
            }
            @if !shift.unexamined.is_empty() {
                h3 { "Not examined" }
                ul { @for words in &shift.unexamined { li { (words) } } }
            }
            p.soft { "Asked without a context or a session; what only a request says is compared by replaying recorded questions." }
        }
    }
}

fn moved(line: &Line) -> Markup {
    let names: Vec<&str> = line.who.iter().take(6).map(|who| who.subject.as_str()).collect();
    let on: BTreeSet<&str> = line.who.iter().flat_map(|who| &who.on).map(String::as_str).collect();
    let on: Vec<&str> = on.into_iter().take(4).collect();
    page! {
        tr {
            td { code { (line.permission) } @if line.kind != "user" { br; strong { (line.kind) } } }
            td { (counted(line.subjects, "subject")) ": " (names.join(", ")) @if line.subjects > names.len() { ", …" } }
            td { (counted(line.resources, "resource")) ": " (on.join(", ")) @if line.resources > on.len() { ", …" } }
            td { (line.before) }
            td { (line.after) }
        }
    }
}

/// Bars from the middle: losers to the left, gainers to the right, one row a permission.
fn chart(shift: &Shift) -> Markup {
    let mut rows: Vec<(&str, usize, usize)> = Vec::new();
    for line in &shift.lines {
        let at =
            rows.iter().position(|(permission, ..)| *permission == line.permission).unwrap_or_else(|| {
                rows.push((&line.permission, 0, 0));
                rows.len() - 1
            });
        *(if line.lost { &mut rows[at].1 } else { &mut rows[at].2 }) += line.subjects;
    }
    rows.truncate(24);
    let most = rows.iter().map(|(_, lost, gained)| *lost.max(gained)).max().unwrap_or(1).max(1);
    let length = |count: usize| count * 220 / most;
    let height = rows.len() * 22 + 20;
    page! {
        svg role="img" viewBox={ "0 0 760 " (height) } aria-label="Subjects who lose and who gain, by permission" {
            text x="460" y="12" text-anchor="end" class="soft" { "lose" }
            text x="480" y="12" class="soft" { "gain" }
            @for (at, (permission, lost, gained)) in rows.iter().enumerate() {
                @let y = 20 + at * 22;
                text x="0" y=(y + 14) { (permission) }
                @if *lost > 0 {
                    rect class="lost" x=(470 - length(*lost)) y=(y + 3) width=(length(*lost)) height="14" {}
                    text x=(464 - length(*lost)) y=(y + 14) text-anchor="end" { (lost) }
                }
                @if *gained > 0 {
                    rect class="gained" x="470" y=(y + 3) width=(length(*gained)) height="14" {}
                    text x=(476 + length(*gained)) y=(y + 14) { (gained) }
                }
            }
            line x1="470" x2="470" y1="16" y2=(height) {}
        }
    }
}

fn coverage(found: &Rehearsed) -> Markup {
    let coverage = &found.coverage;
    let lists = [
        ("Rules that no case and no guarantee touches", &coverage.rules),
        ("Clauses likewise", &coverage.clauses),
        ("Roles likewise", &coverage.roles),
        ("What could be left out with every case still passing", &coverage.removable),
    ];
    page! {
        section {
            h2 { "What nothing looks at" }
            @if lists.iter().all(|(_, list)| list.is_empty()) { p { "Every role, rule and clause is touched, and none could be left out." } }
            @for (title, list) in lists {
                @if !list.is_empty() { h3 { (title) } ul.names { @for one in list { li { (one) } } } }
            }
            @if coverage.tried < coverage.parts {
                p.soft { (coverage.tried) " of " (coverage.parts) " parts were tried to leave out." }
            }
        }
    }
}

fn signature(found: &Rehearsed) -> Markup {
    page! {
        footer {
            p { "Reviewed, for the charter with the digest " code { (found.charter) } }
            div.sign { span { "Name" } span { "Date" } span { "Signature" } }
        }
    }
}
