//! What was live for an application. A rollback goes to what was live before, once more goes further back,
//! never forward.

/// One step of what was live for an application.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Step {
    /// What went live; none: the application was not part of what was live any more.
    pub revision: Option<i64>,
    /// Whether that was a rollback.
    pub back: bool,
}

/// Why there is no way back.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoWayBack {
    /// Nothing is live.
    #[error("nothing is live for it")]
    NothingLive,
    /// Nothing else was live before, or what was may not be any more.
    #[error("nothing that may be live was live before")]
    NothingBefore,
    /// It is live.
    #[error("revision {0} is live already")]
    IsLive(i64),
    /// It was not live before what is live now, or was gone back from.
    #[error("revision {0} was not live before the one that is live now; roll it out")]
    NeverBefore(i64),
    /// It may not be live any more.
    #[error("revision {0} {1}")]
    MayNot(i64, String),
}

/// What was live, oldest first, without what was gone back from: what is live now stands last.
pub fn line(steps: impl IntoIterator<Item = Step>) -> Vec<i64> {
    let mut line: Vec<i64> = Vec::new();
    for step in steps {
        match (step.revision, step.back) {
            (None, _) => line.clear(),
            (Some(revision), true) => {
                // What was gone back from is no way on.
                while line.last().is_some_and(|last| *last != revision) {
                    line.pop();
                }
                if line.is_empty() {
                    line.push(revision);
                }
            }
            (Some(revision), false) => {
                if line.last() != Some(&revision) {
                    line.push(revision);
                }
            }
        }
    }
    line
}

/// What a rollback goes to: the revision that is asked for, or the one before the present one. `may` says why a
/// revision may not be live any more; without one being asked for, such are passed over.
///
/// # Errors
/// Why there is none.
pub fn back(
    line: &[i64],
    to: Option<i64>,
    may: impl Fn(i64) -> Result<(), String>,
) -> Result<i64, NoWayBack> {
    let (now, before) = line.split_last().ok_or(NoWayBack::NothingLive)?;
    match to {
        Some(to) if to == *now => Err(NoWayBack::IsLive(to)),
        Some(to) if !before.contains(&to) => Err(NoWayBack::NeverBefore(to)),
        Some(to) => may(to).map(|()| to).map_err(|why| NoWayBack::MayNot(to, why)),
        None => {
            let mut all = before.iter().rev().copied().filter(|revision| revision != now);
            all.find(|revision| may(*revision).is_ok()).ok_or(NoWayBack::NothingBefore)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// `3` is a rollout of it, `<3` a rollback to it, `-` its end.
    fn steps(text: &str) -> Vec<Step> {
        let step = |word: &str| match word.strip_prefix('<') {
            Some(back) => Step { revision: back.parse().ok(), back: true },
            None => Step { revision: word.parse().ok(), back: false },
        };
        text.split_whitespace().map(step).collect()
    }

    #[rstest]
    #[case("", None, Err(NoWayBack::NothingLive))]
    #[case("1", None, Err(NoWayBack::NothingBefore))]
    #[case("1 2", None, Ok(1))]
    #[case("1 2 3 <2", None, Ok(1))]
    #[case("1 2 3 <2 <1", None, Err(NoWayBack::NothingBefore))]
    #[case("1 2 3 <2", Some(3), Err(NoWayBack::NeverBefore(3)))]
    #[case("1 2 3 <2 4", None, Ok(2))]
    #[case("1 2 3 <2 4", Some(1), Ok(1))]
    #[case("1 2 3", Some(3), Err(NoWayBack::IsLive(3)))]
    #[case("1 2 1", None, Ok(2))]
    #[case("1 2 9", None, Ok(2))]
    #[case("1 9 2", None, Ok(1))]
    #[case("1 9 2", Some(9), Err(NoWayBack::MayNot(9, "is shut".to_owned())))]
    #[case("1 - 2", None, Err(NoWayBack::NothingBefore))]
    fn a_way_back_leads_only_back(
        #[case] history: &str,
        #[case] to: Option<i64>,
        #[case] comes_to: Result<i64, NoWayBack>,
    ) {
        let may = |revision| if revision == 9 { Err("is shut".to_owned()) } else { Ok(()) };
        assert_eq!(back(&line(steps(history)), to, may), comes_to);
    }

    proptest::proptest! {
        /// Against a naive model: whoever goes back again and again meets each revision that was live, in the
        /// opposite order, and comes to an end.
        #[test]
        fn going_back_again_and_again_comes_to_an_end(all in proptest::collection::vec(1..6i64, 1..12)) {
            let mut steps: Vec<Step> =
                all.iter().map(|revision| Step { revision: Some(*revision), back: false }).collect();
            let mut expected = all.clone();
            expected.dedup();
            while let Ok(to) = back(&line(steps.clone()), None, |_| Ok(())) {
                let now = expected.pop();
                proptest::prop_assert_ne!(now, Some(to));
                proptest::prop_assert_eq!(expected.last(), Some(&to));
                steps.push(Step { revision: Some(to), back: true });
            }
            proptest::prop_assert_eq!(expected.len(), 1);
        }
    }
}
