//! Roles that come from relationships, worked out for one decision.
//!
//! First everything the question depends on is gathered: pairs of a role and a site, each with the
//! ways in which it could be conferred there. Nothing is evaluated on the way but paths, so what is
//! gathered, and whether it is too much, does not depend on any condition. Then the pairs are
//! solved, stratum by stratum: within one, from *false* upwards until nothing rises any more, which
//! is the least fixpoint of *sure* and of *possible* at once.

use super::evaluate::{Bound, Ends};
use super::site::{Holders, Site};
use super::walk::Walk;
use super::{Listener, Owner};
use crate::charter::model::{ConferId, KindId, RoleId};
use crate::register::EntityId;
use crate::value::Truth;
use hashbrown::HashMap;
use std::cell::{Cell, OnceCell};
use std::collections::VecDeque;

/// Most pairs of role and resource that one decision depends on; beyond, every conferral is
/// undetermined.
pub const MAX_PAIRS: usize = 4_096;

/// What relationships confer in one decision; nothing is done before it is asked for.
#[derive(Debug, Default)]
pub(super) struct Conferral {
    graph: OnceCell<Graph>,
    /// Whether every conferred role is asked about, not only those the permission depends on.
    all: bool,
}

impl Conferral {
    /// Of every conferred role, not only those that a permission depends on.
    pub fn of_all() -> Conferral {
        Conferral { all: true, ..Conferral::default() }
    }

    /// Whether the decision met more pairs than one may depend on.
    pub fn is_too_much(&self) -> bool {
        self.graph.get().is_some_and(|graph| graph.too_many)
    }

    /// Makes it ready for another decision.
    pub fn forget(&mut self) {
        self.graph.take();
    }
}

/// All pairs a decision depends on.
#[derive(Debug, Default)]
pub(super) struct Graph {
    /// The question's own first.
    sites: Vec<(Site, usize)>,
    /// The holders at sites of one tenant, with that tenant's first site.
    holders: Vec<Holders>,
    site_of: HashMap<EntityId, u32>,
    pairs: Vec<Pair>,
    pair_of: HashMap<(RoleId, u32), u32>,
    too_many: bool,
    solved: Cell<bool>,
    clock: Cell<u32>,
}

/// A role at a site.
#[derive(Debug)]
struct Pair {
    role: RoleId,
    site: u32,
    ways: Vec<Way>,
    /// The same role where this site lies.
    outer: Option<u32>,
    truth: Cell<Truth>,
    /// When it last rose: what made it so rose before.
    since: Cell<u32>,
    /// The pairs that may rise when this one does.
    above: Vec<u32>,
}

/// One conferral that could confer the role at the site.
#[derive(Debug)]
struct Way {
    confer: ConferId,
    /// Where another role must be held, and the pairs that would show it.
    ends: Vec<(u32, Vec<u32>)>,
    /// Whether the path could be followed to all its ends.
    whole: bool,
    /// Its condition, and what of it no pair can change; worked out once.
    fixed: Cell<Option<(Truth, Truth)>>,
}

/// One conferral of those by which a role came, for the explanation.
#[derive(Debug)]
pub(super) struct Witness {
    pub confer: ConferId,
    /// The conferring resource; none if it is the question's own unregistered one.
    pub at: Option<EntityId>,
    /// Where the role is held that it is conferred for.
    pub held_at: Option<EntityId>,
    /// If that role is itself conferred: which one; the next witness tells how.
    pub by: Option<RoleId>,
}

impl<'e> Walk<'e> {
    /// Whether relationships confer a role here.
    pub fn conferred(&self, role: RoleId) -> Truth {
        if self.subject.is_none() || !self.may_hold(role) || !self.could_confer(self.site.thing, role) {
            return Truth::False;
        }
        let graph = self.graph();
        if graph.too_many {
            return Truth::Undetermined;
        }
        // A pair that was not gathered cannot be told; that must not open anything.
        let pair = graph.pair_of.get(&(role, self.at));
        pair.map_or(Truth::Undetermined, |pair| graph.pairs[*pair as usize].truth.get())
    }

    fn graph(&self) -> &'e Graph {
        let conferral = self.conferral;
        let graph = conferral.graph.get_or_init(|| self.gather());
        if !graph.solved.replace(true) && !graph.too_many {
            self.solve(graph);
        }
        graph
    }

    fn kind_at(&self, thing: Option<EntityId>) -> Option<KindId> {
        match thing {
            Some(id) => self.engine.kind(id),
            None => Some(self.own_kind()),
        }
    }

    /// Whether the type of a thing, or one around it that its roles come from, confers a role.
    fn could_confer(&self, thing: Option<EntityId>, role: RoleId) -> bool {
        let policy = self.engine.policy;
        let confers = |kind: KindId| policy.confers_of(kind).any(|(_, confer)| confer.role == role);
        if self.kind_at(thing).is_some_and(confers) {
            return true;
        }
        let register = self.engine.register;
        let mut next = match thing {
            None => self.site.outer,
            Some(id) if register.is_detached(id) => None,
            Some(id) => register.within(id),
        };
        while let Some(id) = next {
            if self.engine.kind(id).is_some_and(confers) {
                return true;
            }
            next = if register.is_detached(id) { None } else { register.within(id) };
        }
        false
    }

    // -- gathering -----------------------------------------------------------------------------

    fn gather(&self) -> Graph {
        let mut graph = Graph::default();
        graph.sites.push((self.site.clone(), 0));
        graph.holders.push(self.holders.clone());
        graph.site_of.extend(self.site.thing.map(|id| (id, 0)));
        let policy = self.engine.policy;
        if self.conferral.all {
            let roles = (0..policy.model().roles.len()).map(RoleId::at);
            roles.for_each(|role| self.add_pair(&mut graph, role, 0, None));
        } else {
            let roots = policy.conferred_roots(self.question.permission);
            roots.iter().for_each(|role| self.add_pair(&mut graph, *role, 0, None));
        }
        let mut at = 0;
        while at < graph.pairs.len() {
            if graph.pairs.len() > MAX_PAIRS {
                graph.too_many = true;
                break;
            }
            self.expand(&mut graph, u32::try_from(at).unwrap_or(u32::MAX));
            at += 1;
        }
        graph
    }

    /// Notes that a pair is depended on, if the role could be conferred there at all; `above` is
    /// the pair that depends on it.
    fn add_pair(&self, graph: &mut Graph, role: RoleId, site: u32, above: Option<u32>) {
        if !self.may_hold(role) || !self.could_confer(graph.sites[site as usize].0.thing, role) {
            return;
        }
        let next = u32::try_from(graph.pairs.len()).unwrap_or(u32::MAX);
        let pair = *graph.pair_of.entry((role, site)).or_insert(next);
        if pair == next {
            graph.pairs.push(Pair {
                role,
                site,
                ways: Vec::new(),
                outer: None,
                truth: Cell::new(Truth::False),
                since: Cell::new(0),
                above: Vec::new(),
            });
        }
        graph.pairs[pair as usize].above.extend(above);
    }

    fn site(&self, graph: &mut Graph, id: EntityId) -> u32 {
        if let Some(known) = graph.site_of.get(&id) {
            return *known;
        }
        let site = Site::of(self.engine, id);
        let same = graph.sites.iter().find(|(known, _)| known.tenant == site.tenant);
        let holders = same.map(|(_, holders)| *holders).unwrap_or_else(|| {
            let mut holders = Holders::default();
            holders.find(self.engine.register, self.subject, self.vouched(), site.tenant);
            graph.holders.push(holders);
            graph.holders.len() - 1
        });
        let at = u32::try_from(graph.sites.len()).unwrap_or(u32::MAX);
        graph.sites.push((site, holders));
        graph.site_of.insert(id, at);
        at
    }

    fn expand(&self, graph: &mut Graph, at: u32) {
        let (role, site) = (graph.pairs[at as usize].role, graph.pairs[at as usize].site);
        let policy = self.engine.policy;
        let mut found = Vec::new();
        {
            let here = self.seen_from(graph, site);
            let kind = here.kind_at(here.site.thing);
            for (id, confer) in kind.into_iter().flat_map(|kind| policy.confers_of(kind)) {
                if confer.role == role {
                    let mut ends = Vec::new();
                    let whole = match confer.holds {
                        None => true,
                        Some(_) => here.confer_ends(confer, &mut |end, _| ends.push(end)) == Ends::All,
                    };
                    ends.sort_unstable();
                    ends.dedup();
                    found.push((id, confer, ends, whole));
                }
            }
        }
        let mut ways = Vec::new();
        for (id, confer, ends, whole) in found {
            // What its condition asks for is of a lower stratum, and is solved before.
            for asked in confer.when.iter().flat_map(|when| when.roles_asked()) {
                for outer in policy.conferred_including(asked) {
                    self.add_pair(graph, *outer, site, None);
                }
            }
            let mut resolved = Vec::new();
            for end in ends {
                let end = self.site(graph, end);
                let held = confer.holds.map_or(&[][..], |held| policy.conferred_including(held));
                held.iter().for_each(|outer| self.add_pair(graph, *outer, end, Some(at)));
                let pairs = held.iter().filter_map(|outer| graph.pair_of.get(&(*outer, end)).copied());
                resolved.push((end, pairs.collect()));
            }
            ways.push(Way { confer: id, ends: resolved, whole, fixed: Cell::new(None) });
        }
        let outer = graph.sites[site as usize].0.outer.and_then(|outer| {
            let outer = self.site(graph, outer);
            self.add_pair(graph, role, outer, Some(at));
            graph.pair_of.get(&(role, outer)).copied()
        });
        let pair = &mut graph.pairs[at as usize];
        (pair.ways, pair.outer) = (ways, outer);
    }

    /// The same decision, seen from another site.
    fn seen_from<'s>(&'s self, graph: &'s Graph, site: u32) -> Walk<'s> {
        let (at, holders) = &graph.sites[site as usize];
        Walk { site: at, holders: &graph.holders[*holders], at: site, ..*self }
    }

    // -- solving -------------------------------------------------------------------------------

    fn solve(&self, graph: &Graph) {
        let stratum = |pair: u32| {
            let role = graph.pairs[pair as usize].role;
            self.engine.policy.model().strata[role.index()]
        };
        // Those gathered last are depended on by those gathered first.
        let mut order: Vec<u32> = (0..u32::try_from(graph.pairs.len()).unwrap_or(u32::MAX)).rev().collect();
        order.sort_by_key(|pair| stratum(*pair));
        for group in order.chunk_by(|a, b| stratum(*a) == stratum(*b)) {
            let mut waiting: VecDeque<u32> = group.iter().copied().collect();
            while let Some(at) = waiting.pop_front() {
                let pair = &graph.pairs[at as usize];
                let value = self.pair_value(graph, pair);
                if value == pair.truth.get() {
                    continue;
                }
                pair.truth.set(value);
                graph.clock.set(graph.clock.get() + 1);
                pair.since.set(graph.clock.get());
                waiting.extend(pair.above.iter().filter(|above| stratum(**above) == stratum(at)));
            }
        }
    }

    fn pair_value(&self, graph: &Graph, pair: &Pair) -> Truth {
        let mut value = pair.outer.map_or(Truth::False, |outer| graph.pairs[outer as usize].truth.get());
        for way in &pair.ways {
            if value == Truth::True {
                break;
            }
            value = value.or(self.way_value(graph, pair, way));
        }
        value
    }

    fn way_value(&self, graph: &Graph, pair: &Pair, way: &Way) -> Truth {
        let (when, fixed) = way.fixed.get().unwrap_or_else(|| {
            let fixed = self.seen_from(graph, pair.site).fixed(graph, way);
            way.fixed.set(Some(fixed));
            fixed
        });
        let held = way.ends.iter().flat_map(|(_, pairs)| pairs);
        let to = held.fold(fixed, |to, held| to.or(graph.pairs[*held as usize].truth.get()));
        when.and(to)
    }

    /// The condition of a way, and what of its end no pair can change.
    fn fixed(&self, graph: &Graph, way: &Way) -> (Truth, Truth) {
        let confer = &self.engine.policy.model().confers[way.confer.index()];
        let when = confer
            .when
            .as_ref()
            .map_or(Truth::True, |when| self.test(Bound { condition: when, grant: None }, when.root));
        let to = match confer.holds {
            None => self.stands_at_end(confer),
            Some(held) => {
                let start = if way.whole { Truth::False } else { Truth::Undetermined };
                let ends = way.ends.iter();
                ends.fold(start, |to, (end, _)| to.or(self.seen_from(graph, *end).holds_by_grant(held)))
            }
        };
        (when, to)
    }

    // -- telling -------------------------------------------------------------------------------

    /// How a role came to be conferred here, one conferral after the other; nothing unless it surely was.
    pub fn conferred_how(&self, role: RoleId) -> Vec<Witness> {
        if self.conferred(role) != Truth::True {
            return Vec::new();
        }
        let graph = self.graph();
        graph.pair_of.get(&(role, self.at)).map_or_else(Vec::new, |pair| self.witnesses(graph, *pair))
    }

    /// Tells the conditions of what may confer a role here.
    pub fn tell_conferral<L: Listener>(&self, role: RoleId, listener: &mut L) {
        let graph = self.graph();
        let mut next = graph.pair_of.get(&(role, self.at)).copied();
        while let Some(at) = next {
            let pair = &graph.pairs[at as usize];
            let here = self.seen_from(graph, pair.site);
            for way in &pair.ways {
                let confer = &self.engine.policy.model().confers[way.confer.index()];
                if let Some(when) = &confer.when {
                    here.condition(
                        Bound { condition: when, grant: None },
                        Owner::Confer(way.confer),
                        listener,
                    );
                }
            }
            next = pair.outer;
        }
    }

    /// From pair to pair, each of which rose before the one it shows: there may be thousands.
    fn witnesses(&self, graph: &Graph, mut at: u32) -> Vec<Witness> {
        let mut all = Vec::new();
        loop {
            let pair = &graph.pairs[at as usize];
            if pair.truth.get() != Truth::True {
                return all;
            }
            let before = |other: &u32| {
                let other = &graph.pairs[*other as usize];
                other.truth.get() == Truth::True && other.since.get() < pair.since.get()
            };
            let next = match self.witness(graph, pair, &before) {
                Some((witness, next)) => {
                    all.push(witness);
                    next
                }
                None => pair.outer.filter(before),
            };
            match next {
                Some(next) => at = next,
                None => return all,
            }
        }
    }

    /// What shows a pair at its own site, and the pair that shows that.
    fn witness(
        &self,
        graph: &Graph,
        pair: &Pair,
        before: &impl Fn(&u32) -> bool,
    ) -> Option<(Witness, Option<u32>)> {
        let at = self.seen_from(graph, pair.site).site.thing;
        for way in pair.ways.iter().filter(|way| self.way_value(graph, pair, way) == Truth::True) {
            let confer = &self.engine.policy.model().confers[way.confer.index()];
            let Some(held) = confer.holds else {
                return Some((Witness { confer: way.confer, at, held_at: None, by: None }, None));
            };
            for (end, pairs) in &way.ends {
                let held_at = graph.sites[*end as usize].0.thing;
                if self.seen_from(graph, *end).holds_by_grant(held) == Truth::True {
                    return Some((Witness { confer: way.confer, at, held_at, by: None }, None));
                }
                if let Some(inner) = pairs.iter().copied().find(before) {
                    let by = Some(graph.pairs[inner as usize].role);
                    return Some((Witness { confer: way.confer, at, held_at, by }, Some(inner)));
                }
            }
        }
        None
    }

    /// Whether the subject stands at the end of a conferral's path, itself or through groups.
    fn stands_at_end(&self, confer: &'e crate::charter::model::Confer) -> Truth {
        let Some(subject) = self.subject else { return Truth::False };
        if let Some(value) = self.row_confer(confer) {
            return value;
        }
        let mut found = Truth::False;
        let ends = self.confer_ends(confer, &mut |end, reached| {
            found = found.or(self.is_or_stands_for(end, subject, reached));
        });
        match ends {
            Ends::All => found,
            Ends::Some => found.or(Truth::Undetermined),
        }
    }
}
