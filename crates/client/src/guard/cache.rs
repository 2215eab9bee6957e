//! Answers that are kept for a while, where an application asks for that.

use lru::LruCache;
use ostrog_wire::access::Reached;
use std::num::NonZeroUsize;
use std::time::{Duration, Instant};

/// Most answers that are kept.
const KEPT: usize = 10_000;

/// The digest of a whole question, its token among it.
pub type Question = [u8; 32];

/// Allows that were answered at one position under one revision. A denial is never kept.
#[derive(Debug)]
pub struct Cache<T> {
    of: Option<Reached>,
    kept: LruCache<Question, Kept<T>>,
}

#[derive(Debug)]
struct Kept<T> {
    value: T,
    since: Instant,
    /// When it ends by itself, in seconds since 1970.
    until: u64,
}

impl<T> Default for Cache<T> {
    fn default() -> Cache<T> {
        Cache { of: None, kept: LruCache::new(NonZeroUsize::new(KEPT).unwrap_or(NonZeroUsize::MIN)) }
    }
}

impl<T: Clone> Cache<T> {
    /// Hears where answers are by now: what was kept of before ends. False: it is of before itself.
    pub fn hears(&mut self, now: &Reached) -> bool {
        if let Some(known) = &self.of {
            if known == now {
                return true;
            }
            let number = |reached: &Reached| {
                let (epoch, number) = reached.position.rsplit_once('.')?;
                Some((epoch.to_owned(), number.parse::<u64>().ok()?))
            };
            if let (Some((epoch, before)), Some((same, after))) = (number(known), number(now))
                && epoch == same
                && after < before
            {
                return false;
            }
        }
        self.kept.clear();
        self.of = Some(now.clone());
        true
    }

    /// Forgets what was kept, and not where answers are: one that is under way and of before is not kept afterwards.
    pub fn forget(&mut self) {
        self.kept.clear();
    }

    /// Keeps an allow, unless it is of before.
    pub fn keep(&mut self, question: Question, value: T, until: u64, of: &Reached) {
        if self.hears(of) {
            self.kept.put(question, Kept { value, since: Instant::now(), until });
        }
    }

    /// What was kept of a question, no older than so much.
    pub fn find(&mut self, question: &Question, age: Duration, now: u64) -> Option<T> {
        let kept = self.kept.get(question)?;
        if kept.since.elapsed() < age && now < kept.until {
            return Some(kept.value.clone());
        }
        self.kept.pop(question);
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(position: &str, revision: i64) -> Reached {
        Reached { revision, position: position.to_owned() }
    }

    #[test]
    fn what_is_kept_ends_with_its_age_its_token_and_whatever_moves() {
        let (age, question) = (Duration::from_secs(60), [7; 32]);
        for (then, stays) in [
            (at("a.5", 1), true),
            (at("a.4", 1), true),
            (at("a.6", 1), false),
            (at("a.5", 2), false),
            (at("b.1", 1), false),
            (at("?", 1), false),
        ] {
            let mut cache = Cache::default();
            cache.keep(question, "ines", 100, &at("a.5", 1));
            cache.hears(&then);
            assert_eq!(cache.find(&question, age, 99).is_some(), stays, "{then:?}");
        }
        let mut cache = Cache::default();
        cache.keep(question, "ines", 100, &at("a.5", 1));
        cache.keep([8; 32], "tomas", 100, &at("a.4", 1));
        assert_eq!(cache.find(&[8; 32], age, 99), None, "of before");
        assert_eq!(cache.find(&question, age, 99), Some("ines"));
        assert_eq!(cache.find(&question, age, 100), None, "its token has ended");
        cache.keep(question, "ines", 100, &at("a.5", 1));
        assert_eq!(cache.find(&question, Duration::ZERO, 99), None, "too old");
        cache.keep(question, "ines", 100, &at("a.5", 1));
        cache.forget();
        assert_eq!(cache.find(&question, age, 99), None);
        cache.keep(question, "ines", 100, &at("a.4", 1));
        assert_eq!(cache.find(&question, age, 99), None, "it was under way, and is of before");
        // The application's own write, of which the revision is not told.
        cache.keep(question, "ines", 100, &at("a.5", 1));
        cache.hears(&at("a.6", 0));
        cache.keep(question, "ines", 100, &at("a.5", 1));
        assert_eq!(cache.find(&question, age, 99), None, "of before the write");
        cache.keep(question, "ines", 100, &at("a.6", 1));
        assert_eq!(cache.find(&question, age, 99), Some("ines"));
    }
}
