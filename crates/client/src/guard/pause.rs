//! When a service that fails is left alone for a while.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Failures in a row after which no call is made for a while.
const FAILURES: u32 = 5;
/// The first of those whiles.
const FIRST_PAUSE: Duration = Duration::from_millis(250);
/// Longest while without a call.
pub const LONGEST_PAUSE: Duration = Duration::from_secs(8);

/// How a service has done lately.
#[derive(Debug, Default)]
pub struct Pause(Mutex<State>);

#[derive(Debug, Default)]
struct State {
    failures: u32,
    until: Option<Instant>,
    /// Whether the call is out that finds out whether it answers again.
    tries: bool,
}

/// Leave for one call. Of one that is given up nothing is known: whoever goes away must not make others wait.
#[derive(Debug)]
pub struct Leave<'p> {
    pause: &'p Pause,
    failed: bool,
}

impl Pause {
    /// Leave for a call, or how long there is none.
    pub fn leave(&self) -> Result<Leave<'_>, Duration> {
        let mut state = self.state();
        if let Some(until) = state.until {
            let now = Instant::now();
            if now < until || state.tries {
                return Err(until.saturating_duration_since(now).max(FIRST_PAUSE));
            }
            state.tries = true;
        }
        Ok(Leave { pause: self, failed: false })
    }

    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Leave<'_> {
    /// The service answered.
    pub fn answered(self) {
        *self.pause.state() = State::default();
    }

    /// It did not.
    pub fn failed(mut self) {
        self.failed = true;
    }
}

impl Drop for Leave<'_> {
    fn drop(&mut self) {
        let mut state = self.pause.state();
        state.tries = false;
        if !self.failed {
            return;
        }
        state.failures = state.failures.saturating_add(1);
        if let Some(more) = state.failures.checked_sub(FAILURES) {
            let pause = FIRST_PAUSE * 2_u32.saturating_pow(more.min(10));
            state.until = Some(Instant::now() + pause.min(LONGEST_PAUSE));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_some_failures_one_call_finds_out_and_the_others_wait() {
        let pause = Pause::default();
        for _ in 0..FAILURES {
            drop(pause.leave().expect("leave"));
            pause.leave().expect("whoever gives up is no failure").failed();
        }
        let left = pause.leave().expect_err("none for a while");
        assert!(left <= FIRST_PAUSE, "{left:?}");
        std::thread::sleep(FIRST_PAUSE);
        let probe = pause.leave().expect("one tries");
        assert!(pause.leave().is_err(), "and no other");
        probe.failed();
        let left = pause.leave().expect_err("twice as long");
        assert!(left > FIRST_PAUSE, "{left:?}");
        std::thread::sleep(2 * FIRST_PAUSE);
        pause.leave().expect("one tries").answered();
        let (one, two) = (pause.leave().expect("leave"), pause.leave().expect("leave"));
        one.answered();
        two.answered();
    }
}
