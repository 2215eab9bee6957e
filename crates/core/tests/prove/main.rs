//! Proofs against all that can be: every small register, and random requests that each must have
//! room in the formula.

#![allow(clippy::disallowed_methods, reason = "how long the search runs is set from outside")]

mod enumerated;
mod room;

/// How many random worlds are tried, unless `OSTROG_ORACLE_CASES` says otherwise.
fn cases(usual: u64) -> u64 {
    std::env::var("OSTROG_ORACLE_CASES").ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Chance from a seed (splitmix64).
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        usize::try_from((z ^ (z >> 31)) % bound as u64).unwrap_or(0)
    }

    fn one<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }

    /// So often in ten times.
    fn often(&mut self, times: usize) -> bool {
        self.below(10) < times
    }
}
