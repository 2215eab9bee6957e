//! What applications asked lately: the last question of each, and questions that named what the
//! charter does not declare. In this node's memory, since its start.

use jiff::Timestamp;
use std::collections::{BTreeMap, HashMap};
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError, RwLock};

/// Most unknown questions that are told apart.
const MAX_UNKNOWN: usize = 1_000;
/// Most patterns of unmapped requests that are told apart.
const MAX_UNMAPPED: usize = 1_000;
/// Most applications: more than a charter has.
const MAX_APPLICATIONS: usize = 1_000;

/// A question in short.
#[derive(Clone, Debug, Default)]
pub struct Short {
    /// Who.
    pub subject: String,
    /// `type:action`.
    pub permission: String,
    /// With what.
    pub resource: Option<String>,
    /// The decision.
    pub allowed: bool,
    /// Why.
    pub reason: String,
    /// When.
    pub at: Timestamp,
}

/// How often something unknown was asked.
#[derive(Clone, Copy, Debug)]
pub struct Times {
    /// How often.
    pub count: u64,
    /// When last.
    pub last: Timestamp,
}

/// How many minutes decisions are counted over.
const MINUTES: usize = 60;

#[derive(Debug)]
struct Last {
    second: AtomicI64,
    question: Mutex<Short>,
    minutes: [Minute; MINUTES],
}

/// What was decided within one minute; another one takes its place an hour later.
#[derive(Debug, Default)]
struct Minute {
    since_epoch: AtomicI64,
    allowed: AtomicU64,
    denied: AtomicU64,
}

impl Last {
    fn new(second: i64, question: Short) -> Last {
        Last {
            second: AtomicI64::new(second),
            question: Mutex::new(question),
            minutes: std::array::from_fn(|_| Minute::default()),
        }
    }

    /// Counts a decision. Where a minute begins, one that comes at the same instant may be lost.
    fn count(&self, second: i64, allowed: bool) {
        let now = second.div_euclid(60);
        let minute = &self.minutes[now.rem_euclid(MINUTES as i64) as usize];
        let begins = minute.since_epoch.load(Ordering::Relaxed) != now;
        if begins && minute.since_epoch.swap(now, Ordering::Relaxed) != now {
            minute.allowed.store(0, Ordering::Relaxed);
            minute.denied.store(0, Ordering::Relaxed);
        }
        let counted = if allowed { &minute.allowed } else { &minute.denied };
        counted.fetch_add(1, Ordering::Relaxed);
    }
}

/// Requests that no route takes, ids cut out.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Unmapped {
    /// The application behind the proxy.
    pub application: String,
    /// The method.
    pub method: String,
    /// The path.
    pub pattern: String,
}

/// What was asked.
#[derive(Debug, Default)]
pub struct Log {
    last: RwLock<HashMap<String, Last>>,
    unknown: Mutex<BTreeMap<(String, String), Times>>,
    unmapped: Mutex<BTreeMap<Unmapped, Times>>,
}

impl Log {
    /// Notes the last question of an application: one a second at most, so that it costs nothing.
    /// Each is counted, by what was decided.
    pub fn note(&self, application: &str, at: Timestamp, allowed: bool, question: impl FnOnce() -> Short) {
        let second = at.as_second();
        let seen = |last: &Last| last.second.swap(second, Ordering::Relaxed) == second;
        {
            let known = self.last.read().unwrap_or_else(PoisonError::into_inner);
            if let Some(last) = known.get(application) {
                last.count(second, allowed);
                if last.second.load(Ordering::Relaxed) != second && !seen(last) {
                    *last.question.lock().unwrap_or_else(PoisonError::into_inner) = question();
                }
                return;
            }
        }
        let mut all = self.last.write().unwrap_or_else(PoisonError::into_inner);
        if all.len() < MAX_APPLICATIONS {
            let last = all.entry(application.to_owned()).or_insert_with(|| Last::new(second, question()));
            last.count(second, allowed);
        }
    }

    /// Counts a question about a permission that the charter does not declare.
    pub fn unknown(&self, application: &str, permission: &str, at: Timestamp) {
        let mut all = self.unknown.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (application.to_owned(), permission.chars().take(200).collect());
        if all.len() < MAX_UNKNOWN || all.contains_key(&key) {
            let times = all.entry(key).or_insert(Times { count: 0, last: at });
            times.count += 1;
            times.last = at;
        }
    }

    /// Counts a request that no route takes.
    pub fn unmapped(&self, application: &str, method: &str, pattern: &str, at: Timestamp) {
        let mut all = self.unmapped.lock().unwrap_or_else(PoisonError::into_inner);
        let key = Unmapped {
            application: application.to_owned(),
            method: method.to_owned(),
            pattern: pattern.chars().take(200).collect(),
        };
        if all.len() < MAX_UNMAPPED || all.contains_key(&key) {
            let times = all.entry(key).or_insert(Times { count: 0, last: at });
            times.count += 1;
            times.last = at;
        }
    }

    /// Requests that no route takes, and how often.
    pub fn all_unmapped(&self) -> Vec<(Unmapped, Times)> {
        let all = self.unmapped.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().map(|(what, times)| (what.clone(), *times)).collect()
    }

    /// The last question of an application.
    pub fn last(&self, application: &str) -> Option<Short> {
        let all = self.last.read().unwrap_or_else(PoisonError::into_inner);
        let last = all.get(application)?.question.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Some(last)
    }

    /// How many decisions of an application were made in each of the last minutes, the last one first:
    /// allowed, and denied.
    pub fn minutes(&self, application: &str, now: Timestamp) -> Vec<(u64, u64)> {
        let all = self.last.read().unwrap_or_else(PoisonError::into_inner);
        let Some(last) = all.get(application) else { return vec![(0, 0); MINUTES] };
        let current = now.as_second().div_euclid(60);
        let of = |back: i64| {
            let minute = &last.minutes[(current - back).rem_euclid(MINUTES as i64) as usize];
            let is_it = minute.since_epoch.load(Ordering::Relaxed) == current - back;
            let read = |counted: &AtomicU64| if is_it { counted.load(Ordering::Relaxed) } else { 0 };
            (read(&minute.allowed), read(&minute.denied))
        };
        (0..MINUTES as i64).map(of).collect()
    }

    /// Unknown questions: application, permission, how often.
    pub fn all_unknown(&self) -> Vec<(String, String, Times)> {
        let all = self.unknown.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter()
            .map(|((application, permission), times)| (application.clone(), permission.clone(), *times))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_last_question_is_noted_once_a_second_and_unknown_ones_are_bounded() {
        let log = Log::default();
        let at = |second| Timestamp::from_second(second).expect("a moment");
        let question = |permission: &str| Short { permission: permission.to_owned(), ..Short::default() };
        log.note("customs", at(1), true, || question("a:b"));
        log.note("customs", at(1), false, || question("a:c"));
        assert_eq!(log.last("customs").expect("noted").permission, "a:b");
        log.note("customs", at(61), true, || question("a:d"));
        assert_eq!(log.minutes("customs", at(62))[..3], [(1, 0), (1, 1), (0, 0)]);
        // An hour later its place is another minute's.
        log.note("customs", at(3_601), true, || question("a:d"));
        assert_eq!(log.minutes("customs", at(3_601))[0], (1, 0));
        assert_eq!(log.minutes("quay", at(3_601)).len(), MINUTES);
        assert_eq!(log.last("customs").expect("noted").permission, "a:d");
        assert!(log.last("quay").is_none());
        for round in 0..MAX_UNKNOWN + 5 {
            log.unknown("customs", &format!("x:{round}"), at(3));
        }
        log.unknown("customs", "x:0", at(4));
        let all = log.all_unknown();
        assert_eq!(all.len(), MAX_UNKNOWN);
        assert!(all.iter().any(|(_, name, times)| name == "x:0" && times.count == 2 && times.last == at(4)));
    }
}
