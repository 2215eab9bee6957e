//! Bits and the clauses that bind them: what the solver is told.
//!
//! What holds here: a [`Bit`] that is made of others is equal to what it is made of (both
//! directions are told to the solver), so a bit means the same wherever it is used; equal gates are
//! one bit; constants disappear.

use batsat::{BasicSolver, Lit, SolverInterface, lbool};
use hashbrown::HashMap;
use std::ops::Not;

/// Something that is so or not.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Bit(Lit);

impl Not for Bit {
    type Output = Bit;
    fn not(self) -> Bit {
        Bit(!self.0)
    }
}

/// A value of three, as two bits: `sure` is *true*, `may` is *not false*. `sure` implies `may`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Tri {
    /// It is true.
    pub sure: Bit,
    /// It is not false.
    pub may: Bit,
}

impl Tri {
    /// True or false.
    pub fn plain(bit: Bit) -> Tri {
        Tri { sure: bit, may: bit }
    }
}

impl Not for Tri {
    type Output = Tri;
    fn not(self) -> Tri {
        Tri { sure: !self.may, may: !self.sure }
    }
}

/// The formula so far, inside its solver.
pub struct Formula {
    solver: BasicSolver,
    yes: Bit,
    gates: HashMap<(Bit, Bit), Bit>,
    clauses: usize,
}

impl std::fmt::Debug for Formula {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Formula").field("clauses", &self.clauses).finish_non_exhaustive()
    }
}

impl Default for Formula {
    fn default() -> Self {
        let mut solver = BasicSolver::default();
        let yes = Bit(Lit::new(solver.new_var_default(), true));
        solver.add_clause_reuse(&mut vec![yes.0]);
        Formula { solver, yes, gates: HashMap::new(), clauses: 0 }
    }
}

impl Formula {
    /// What is always so.
    pub fn yes(&self) -> Bit {
        self.yes
    }

    /// What is never so.
    pub fn no(&self) -> Bit {
        !self.yes
    }

    /// A bit, as a constant.
    pub fn constant(&self, value: bool) -> Bit {
        if value { self.yes } else { !self.yes }
    }

    /// Something new that may be so or not.
    pub fn free(&mut self) -> Bit {
        Bit(Lit::new(self.solver.new_var_default(), true))
    }

    /// A new value of three.
    pub fn free_tri(&mut self) -> Tri {
        let (sure, may) = (self.free(), self.free());
        self.clause(&[!sure, may]);
        Tri { sure, may }
    }

    /// One of these is so.
    pub fn clause(&mut self, bits: &[Bit]) {
        if bits.contains(&self.yes) {
            return;
        }
        let mut literals = bits.iter().filter(|bit| **bit != !self.yes).map(|bit| bit.0).collect();
        self.solver.add_clause_reuse(&mut literals);
        self.clauses += 1;
    }

    /// Where the first is so, so is the second.
    pub fn implies(&mut self, a: Bit, b: Bit) {
        self.clause(&[!a, b]);
    }

    /// Where the condition is so, the two are the same.
    pub fn same_if(&mut self, condition: Bit, a: Bit, b: Bit) {
        self.clause(&[!condition, !a, b]);
        self.clause(&[!condition, a, !b]);
    }

    /// Both.
    pub fn and(&mut self, a: Bit, b: Bit) -> Bit {
        let (a, b) = if a <= b { (a, b) } else { (b, a) };
        if a == b || b == self.yes {
            return a;
        }
        if a == self.yes {
            return b;
        }
        if a == !b || a == !self.yes || b == !self.yes {
            return !self.yes;
        }
        if let Some(known) = self.gates.get(&(a, b)) {
            return *known;
        }
        let both = self.free();
        self.clause(&[!both, a]);
        self.clause(&[!both, b]);
        self.clause(&[both, !a, !b]);
        self.gates.insert((a, b), both);
        both
    }

    /// Either.
    pub fn or(&mut self, a: Bit, b: Bit) -> Bit {
        !self.and(!a, !b)
    }

    /// All of them.
    pub fn all(&mut self, bits: impl IntoIterator<Item = Bit>) -> Bit {
        bits.into_iter().fold(self.yes, |all, bit| self.and(all, bit))
    }

    /// Any of them.
    pub fn any(&mut self, bits: impl IntoIterator<Item = Bit>) -> Bit {
        bits.into_iter().fold(!self.yes, |any, bit| self.or(any, bit))
    }

    /// Whether the two are the same.
    pub fn same(&mut self, a: Bit, b: Bit) -> Bit {
        let (both, neither) = (self.and(a, b), self.and(!a, !b));
        self.or(both, neither)
    }

    /// `and`, on three values.
    pub fn and3(&mut self, a: Tri, b: Tri) -> Tri {
        Tri { sure: self.and(a.sure, b.sure), may: self.and(a.may, b.may) }
    }

    /// `or`, on three values.
    pub fn or3(&mut self, a: Tri, b: Tri) -> Tri {
        !self.and3(!a, !b)
    }

    /// Looks for values of all bits under which every clause and the assumptions hold.
    pub fn solve(&mut self, assumed: &[Bit]) -> Option<bool> {
        let literals: Vec<Lit> = assumed.iter().map(|bit| bit.0).collect();
        match self.solver.solve_limited(&literals) {
            answer if answer == lbool::TRUE => Some(true),
            answer if answer == lbool::FALSE => Some(false),
            _ => None,
        }
    }

    /// The value of a bit in what was found.
    pub fn is(&self, bit: Bit) -> bool {
        self.solver.value_lit(bit.0) == lbool::TRUE
    }

    /// Of the assumptions of the last search, those that stood in its way.
    pub fn in_the_way(&self, assumed: &[Bit]) -> Vec<Bit> {
        assumed
            .iter()
            .copied()
            .filter(|bit| {
                self.solver.unsat_core_contains_lit(!bit.0) || self.solver.unsat_core_contains_lit(bit.0)
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn gates_mean_what_they_are_made_of() {
        let mut formula = Formula::default();
        let (a, b, c) = (formula.free(), formula.free(), formula.free());
        let either = formula.or(a, b);
        let whole = formula.and(either, c);
        assert_eq!(formula.solve(&[whole, !a, !b]), Some(false));
        assert!(!formula.in_the_way(&[whole, !a, !b]).is_empty());
        assert_eq!(formula.solve(&[whole, !a]), Some(true));
        assert!(formula.is(b) && formula.is(c));
        assert_eq!(formula.and(a, !a), formula.no());
        assert_eq!(formula.or(b, a), either);
    }
}
