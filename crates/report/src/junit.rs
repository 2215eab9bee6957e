//! JUnit XML: a suite of cases, one of guarantees. The shift is told as a property; it fails nothing.

use crate::Rehearsed;
use ostrog_core::rehearse::{CaseReport, Check, Outcome};
use quick_junit::{NonSuccessKind, Property, Report, TestCase, TestCaseStatus, TestSuite};

/// The report as XML.
pub fn junit(found: &Rehearsed) -> String {
    let mut report = Report::new(format!("rehearsal of {}", found.of));
    let mut cases = TestSuite::new("cases");
    cases.add_property(Property::new("charter", &found.charter));
    if let Some(shift) = &found.shift {
        cases.add_property(Property::new("shift", shift.in_words()));
    }
    for case in &found.cases {
        let mut one =
            TestCase::new(&case.name, status(case.passed, NonSuccessKind::Failure, &failures(case)));
        one.set_classname(&case.place);
        let doubts: Vec<&str> = case.checks.iter().filter_map(|check| check.doubt.as_deref()).collect();
        if !doubts.is_empty() {
            one.set_system_out(doubts.join("\n"));
        }
        cases.add_test_case(one);
    }
    let mut guarantees = TestSuite::new("guarantees");
    for one in &found.guarantees {
        // What is not settled is no finding about the charter, but it is no pass either.
        let kind =
            if one.outcome == Outcome::Undecided { NonSuccessKind::Error } else { NonSuccessKind::Failure };
        let told = one.told.iter().chain(&one.why).cloned().collect::<Vec<_>>().join("\n");
        let words = format!("{}: {}\n{told}", one.outcome.word(), one.claim);
        let mut case = TestCase::new(&one.name, status(one.holds(), kind, &words));
        case.set_classname(&one.place);
        guarantees.add_test_case(case);
    }
    report.add_test_suites([cases, guarantees]);
    report.to_string().unwrap_or_default()
}

fn status(passed: bool, kind: NonSuccessKind, words: &str) -> TestCaseStatus {
    if passed {
        return TestCaseStatus::success();
    }
    let mut status = TestCaseStatus::non_success(kind);
    status.set_message(words.lines().next().unwrap_or_default());
    status.set_description(words);
    status
}

fn failures(case: &CaseReport) -> String {
    case.checks.iter().filter(|check| !check.passed).map(failure).collect::<Vec<_>>().join("\n")
}

/// `user:ines may manifest:release on manifest:m-204, and should not: …`
pub(crate) fn failure(check: &Check) -> String {
    let on = check.resource.as_deref().unwrap_or("a new one");
    let word = if check.explanation.allowed { "may" } else { "may not" };
    let wanted = match (&check.expected_reason, check.expected == check.explanation.allowed) {
        (Some(reason), true) => {
            format!("as it should, but because of {}, not {reason}", check.explanation.reason)
        }
        (_, _) if check.expected => "and should".to_owned(),
        _ => "and should not".to_owned(),
    };
    format!("{} {word} {} on {on}, {wanted}: {}", check.subject, check.permission, check.explanation.sentence)
}
