//! The entities a question can meet: its subject, its resource, and what stands at the end of
//! steps from them. Two of them may be one and the same.

use super::super::formula::{Bit, Formula};
use super::super::theory::{Theory, UNIT};
use super::{Encoding, ListKey, Open, Value};
use crate::charter::model::{Attribute, KindId, NameId, PermId, Stated, Step};
use crate::charter::policy::Policy;
use crate::charter::syntax::Source;
use crate::value::ValueType;
use hashbrown::HashMap;

/// A thing, by its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ThingId(pub u32);

/// How a thing is come to.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Edge {
    /// What it lies within, as a place: roles come from there.
    Within,
    /// Its tenant.
    Tenant,
    /// A relation with one target.
    Relation(NameId),
    /// One of the ends of a path, chosen for a reason: the number tells which.
    End(Box<[Step]>, u8),
}

/// Something that may be there.
#[derive(Clone, Debug)]
pub struct Thing {
    /// What the charter calls it, if it does.
    pub named: Option<String>,
    /// The kinds it may be of; exactly one is so if it is there.
    pub kinds: Vec<(KindId, Bit)>,
    /// It is there.
    pub there: Bit,
    /// There is something, but not of a kind that is declared.
    pub ill: Bit,
    /// Steps from the question.
    pub depth: usize,
}

/// What an attribute reads.
#[derive(Clone, Copy, Debug)]
pub struct Read {
    /// It has a value.
    pub there: Bit,
    /// Something is stated that it cannot be.
    pub ill: Bit,
    /// The value, if it has one.
    pub value: Value,
}

impl<'p> Encoding<'p> {
    /// The questions about one permission's type; things are told apart up to `depth` steps away.
    pub fn new(policy: &'p Policy, permission: PermId, depth: usize, may_be_too_many: bool) -> Encoding<'p> {
        let mut formula = Formula::default();
        let mut theory = Theory::default();
        let (yes, no) = (formula.yes(), formula.no());
        let (user, service) = (formula.free(), formula.free());
        formula.clause(&[!user, !service]);
        let there = formula.or(user, service);
        let subject = Thing {
            named: None,
            kinds: vec![(KindId::USER, user), (KindId::SERVICE, service)],
            there,
            ill: no,
            depth: 0,
        };
        let kind = policy.model().permissions[permission.index()].kind;
        let resource = Thing { named: None, kinds: vec![(kind, yes)], there: yes, ill: no, depth: 0 };
        let (registered, has_id) = (formula.free(), formula.free());
        formula.implies(registered, has_id);
        let too_many = if may_be_too_many { formula.free() } else { no };
        let now = theory.number(1);
        // A name for what is not registered can be asked about, but not kept as a case.
        let only_named = formula.and(has_id, !registered);
        Encoding {
            policy,
            unlikely: vec![only_named, too_many, !registered, !there, service],
            formula,
            theory,
            things: vec![subject, resource],
            children: HashMap::new(),
            same_thing: Default::default(),
            attributes: HashMap::new(),
            ids: HashMap::new(),
            context: HashMap::new(),
            lists: Vec::new(),
            overlaps: Vec::new(),
            now,
            opaque: HashMap::new(),
            opaque_texts: HashMap::new(),
            in_range: HashMap::new(),
            conditions: HashMap::new(),
            detached: HashMap::new(),
            local: HashMap::new(),
            everywhere: HashMap::new(),
            chains: HashMap::new(),
            conferrals: HashMap::new(),
            standing: HashMap::new(),
            members: HashMap::new(),
            in_group: HashMap::new(),
            among: HashMap::new(),
            of_tenant: HashMap::new(),
            made: Vec::new(),
            by_group: HashMap::new(),
            named_is_registered: HashMap::new(),
            subject: ThingId(0),
            resource: ThingId(1),
            registered,
            has_id,
            too_many,
            depth,
            open: Default::default(),
            reads_clocks: false,
        }
    }

    pub fn thing(&self, id: ThingId) -> &Thing {
        &self.things[id.0 as usize]
    }

    fn add(&mut self, thing: Thing) -> ThingId {
        self.things.push(thing);
        ThingId(u32::try_from(self.things.len() - 1).unwrap_or(u32::MAX))
    }

    /// Whether a thing is of a kind.
    pub fn is_kind(&self, id: ThingId, kind: KindId) -> Bit {
        let found = self.thing(id).kinds.iter().find(|(known, _)| *known == kind);
        found.map_or(self.formula.no(), |(_, bit)| *bit)
    }

    /// Whether it is in the register, if it is there.
    pub fn is_registered(&mut self, id: ThingId) -> Bit {
        match (id == self.resource, &self.thing(id).named) {
            (true, _) => self.registered,
            (_, Some(_)) => self.thing(id).there,
            _ => self.thing(id).there,
        }
    }

    /// A thing of one of these kinds that may be there.
    fn new_child(&mut self, from: ThingId, edge: Edge, kinds: &[KindId]) -> ThingId {
        let there = self.formula.free();
        let kinds: Vec<(KindId, Bit)> = match kinds {
            [only] => vec![(*only, there)],
            _ => {
                let bits: Vec<(KindId, Bit)> =
                    kinds.iter().map(|kind| (*kind, self.formula.free())).collect();
                for (at, (_, a)) in bits.iter().enumerate() {
                    self.formula.implies(*a, there);
                    for (_, b) in &bits[at + 1..] {
                        self.formula.clause(&[!*a, !*b]);
                    }
                }
                let some: Vec<Bit> = bits.iter().map(|(_, bit)| *bit).chain([!there]).collect();
                self.formula.clause(&some);
                bits
            }
        };
        let parent = self.thing(from);
        let (depth, parent_there) = (parent.depth + 1, parent.there);
        let ill = self.formula.free();
        self.formula.clause(&[!there, !ill]);
        self.formula.implies(there, parent_there);
        self.unlikely.push(ill);
        let id = self.add(Thing { named: None, kinds, there, ill, depth });
        self.children.insert((from, edge), id);
        id
    }

    /// An entity the charter names.
    pub fn named(&mut self, name: &str) -> ThingId {
        if let Some(at) = self.things.iter().position(|thing| thing.named.as_deref() == Some(name)) {
            return ThingId(at as u32);
        }
        let kind = name.split(':').next().and_then(|kind| self.policy.kind(kind)).unwrap_or(KindId::USER);
        let yes = self.formula.yes();
        // Whether it is registered is left open: it may be equal to something that is, or to nothing.
        self.add(Thing {
            named: Some(name.to_owned()),
            kinds: vec![(kind, yes)],
            there: yes,
            ill: !yes,
            depth: 0,
        })
    }

    /// Whether what the charter names is registered.
    pub fn is_named_registered(&mut self, named: ThingId) -> Bit {
        if let Some(known) = self.named_is_registered.get(&named) {
            return *known;
        }
        let bit = self.formula.free();
        self.unlikely.push(bit);
        self.named_is_registered.insert(named, bit);
        bit
    }

    /// The thing at the end of a step, or of nothing where the step leads to none.
    pub fn child(&mut self, from: ThingId, edge: Edge) -> ThingId {
        if let Some(known) = self.children.get(&(from, edge.clone())) {
            return *known;
        }
        match &edge {
            Edge::Within => self.outer(from),
            Edge::Tenant => self.tenant(from),
            Edge::Relation(name) => self.related(from, *name),
            Edge::End(steps, _) => {
                let kinds = self.kinds_after(from, steps);
                self.new_child(from, edge, &kinds)
            }
        }
    }

    /// The kinds that stand at the end of steps.
    pub fn kinds_after(&self, from: ThingId, steps: &[Step]) -> Vec<KindId> {
        let model = self.policy.model();
        let mut kinds: Vec<KindId> = self.thing(from).kinds.iter().map(|(kind, _)| *kind).collect();
        for step in steps {
            let mut next: Vec<KindId> = kinds
                .iter()
                .flat_map(|kind| match step {
                    Step::Within => model.kinds[kind.index()].within.clone(),
                    Step::Tenant => vec![KindId::TENANT],
                    Step::Relation(name) => model.kinds[kind.index()]
                        .relation(*name)
                        .map_or_else(Vec::new, |relation| relation.to.clone()),
                    _ => Vec::new(),
                })
                .collect();
            next.sort_unstable();
            next.dedup();
            kinds = next;
        }
        kinds
    }

    fn outer(&mut self, from: ThingId) -> ThingId {
        let kinds = self.kinds_after(from, &[Step::Within]);
        let outer = self.new_child(from, Edge::Within, &kinds);
        let there = self.thing(outer).there;
        let ill = self.thing(outer).ill;
        self.formula.clause(&[!ill]);
        let registered = self.is_registered(from);
        let model = self.policy.model();
        for (kind, is) in self.thing(from).kinds.clone() {
            let within = &model.kinds[kind.index()].within;
            if within.is_empty() {
                self.formula.clause(&[!is, !there]);
                continue;
            }
            // A resource whose type declares it lies within something.
            self.formula.clause(&[!is, !registered, there]);
            for (other, is_other) in self.thing(outer).kinds.clone() {
                if !within.contains(&other) {
                    self.formula.clause(&[!is, !is_other]);
                }
            }
        }
        outer
    }

    fn tenant(&mut self, from: ThingId) -> ThingId {
        let tenant = self.new_child(from, Edge::Tenant, &[KindId::TENANT]);
        let (there, ill) = (self.thing(tenant).there, self.thing(tenant).ill);
        self.formula.clause(&[!ill]);
        for (kind, is) in self.thing(from).kinds.clone() {
            let model_kind = &self.policy.model().kinds[kind.index()];
            if kind == KindId::TENANT {
                let same = self.are_same(tenant, from);
                self.formula.clause(&[!is, there]);
                self.formula.clause(&[!is, same]);
            } else if kind.is_subject() || (kind.is_resource() && model_kind.within.is_empty()) {
                self.formula.clause(&[!is, !there]);
            }
        }
        // What it lies within has the same one.
        let lying = |kind: &KindId| !self.policy.model().kinds[kind.index()].within.is_empty();
        let lying: Vec<Bit> =
            self.thing(from).kinds.iter().filter(|(kind, _)| lying(kind)).map(|(_, is)| *is).collect();
        if !lying.is_empty() {
            let lies = self.formula.any(lying);
            let outer = self.child(from, Edge::Within);
            if self.thing(outer).depth < self.depth + 4 {
                let around = self.child(outer, Edge::Tenant);
                let (outer_there, around_there) = (self.thing(outer).there, self.thing(around).there);
                self.formula.same_if(outer_there, there, around_there);
                self.formula.clause(&[!lies, outer_there, !there]);
                let same = self.are_same(tenant, around);
                self.formula.clause(&[!there, !outer_there, same]);
            } else {
                self.leave_beyond("the tenant", from);
            }
        }
        tenant
    }

    fn related(&mut self, from: ThingId, name: NameId) -> ThingId {
        let kinds = self.kinds_after(from, &[Step::Relation(name)]);
        let to = self.new_child(from, Edge::Relation(name), &kinds);
        let there = self.thing(to).there;
        for (kind, is) in self.thing(from).kinds.clone() {
            let relation = self.policy.model().kinds[kind.index()].relation(name).cloned();
            let Some(relation) = relation else {
                self.formula.clause(&[!is, !there]);
                continue;
            };
            for (other, is_other) in self.thing(to).kinds.clone() {
                if !relation.to.contains(&other) {
                    self.formula.clause(&[!is, !is_other]);
                }
            }
            if relation.across_tenants || kind.is_subject() {
                continue;
            }
            // The seal: only to what has no tenant or the same one; and to nothing from what has an
            // unknown one.
            let own = self.child(from, Edge::Tenant);
            if !self.policy.model().kinds[kind.index()].within.is_empty() {
                let outer = self.child(from, Edge::Within);
                let lies = self.thing(outer).there;
                self.formula.clause(&[!is, !there, lies]);
            }
            if self.thing(to).kinds.iter().any(|(kind, _)| !kind.is_subject()) {
                let other = self.child(to, Edge::Tenant);
                let other_there = self.thing(other).there;
                let same = self.are_same(own, other);
                self.formula.clause(&[!is, !there, !other_there, same]);
            }
        }
        to
    }

    /// Whether two things are one.
    pub fn are_same(&mut self, a: ThingId, b: ThingId) -> Bit {
        if a == b {
            return self.formula.yes();
        }
        let (x, y) = (self.thing(a).clone(), self.thing(b).clone());
        if x.named.is_some() && y.named.is_some()
            || !x.kinds.iter().any(|(kind, _)| y.kinds.iter().any(|(k, _)| k == kind))
        {
            return self.formula.no();
        }
        if let Some(known) = self.same_thing.asked(a.0, b.0) {
            return known;
        }
        let bit = self.same_thing.bit(&mut self.formula, a.0, b.0);
        self.formula.implies(bit, x.there);
        self.formula.implies(bit, y.there);
        for kind in x.kinds.iter().chain(&y.kinds).map(|(kind, _)| *kind) {
            let (is_x, is_y) = (self.is_kind(a, kind), self.is_kind(b, kind));
            self.formula.same_if(bit, is_x, is_y);
        }
        // An unregistered resource is nothing of the register. With a name of the charter it may
        // share its id.
        for (own, other) in [(a, &y), (b, &x)] {
            if own == self.resource && other.named.is_none() {
                self.formula.implies(bit, self.registered);
            } else if own == self.resource {
                self.formula.implies(bit, self.has_id);
            }
        }
        bit
    }

    /// The text after the colon.
    pub fn id_of(&mut self, thing: ThingId) -> Read {
        let text = match self.ids.get(&thing) {
            Some(known) => *known,
            None => {
                let named = self.thing(thing).named.clone();
                let text = match named.as_deref().and_then(|name| name.split_once(':')) {
                    Some((_, id)) => self.theory.literal(id),
                    None => self.theory.text(None),
                };
                self.ids.insert(thing, text);
                text
            }
        };
        let there = if thing == self.resource { self.has_id } else { self.thing(thing).there };
        Read { there, ill: self.formula.no(), value: Value::Text(text) }
    }

    pub fn known_id(&self, thing: ThingId) -> Option<u32> {
        self.ids.get(&thing).copied()
    }

    pub fn is_detached(&mut self, thing: ThingId) -> Bit {
        if let Some(known) = self.detached.get(&thing) {
            return *known;
        }
        let bit = self.formula.free();
        let registered = self.is_registered(thing);
        self.formula.implies(bit, registered);
        self.unlikely.push(bit);
        self.detached.insert(thing, bit);
        bit
    }

    /// A new value of a declared sort.
    fn value(&mut self, declared: &Attribute) -> Value {
        match declared.kind {
            ValueType::Text => {
                let values = declared.values.as_ref().map(|values| {
                    let texts = values.iter().filter_map(|value| match value {
                        crate::value::Value::Text(text) => Some(text.to_string()),
                        _ => None,
                    });
                    texts.collect()
                });
                Value::Text(self.theory.text(values))
            }
            ValueType::Integer => Value::Number(self.theory.number(UNIT)),
            ValueType::Decimal => Value::Number(self.theory.number(0)),
            ValueType::Time | ValueType::Duration => Value::Number(self.theory.number(1)),
            ValueType::Boolean => Value::Boolean(self.formula.free()),
            ValueType::Address => Value::Address(self.theory.address(None)),
        }
    }

    /// A value that is stated, or the default; `open` where it can be stated at all. The kinds that
    /// declare it may have defaults of their own.
    fn stated(&mut self, kinds: &[(Bit, &Attribute)], open: Bit) -> Read {
        let (_, declared) = kinds[0];
        let value = self.value(declared);
        let (there, ill) = (self.formula.free(), self.formula.free());
        self.formula.clause(&[!there, !ill]);
        self.unlikely.push(ill);
        if let (Some(values), false) = (&declared.values, declared.kind == ValueType::Text) {
            let all: Vec<Value> = values.iter().map(|value| self.literal(value)).collect();
            let one: Vec<Bit> =
                all.into_iter().map(|known| self.same(value, known)).chain([!there]).collect();
            self.formula.clause(&one);
        }
        // Where nothing may state it, only the default is left.
        self.formula.clause(&[open, !ill]);
        for (is, declared) in kinds {
            let Some(default) = &declared.default else {
                self.formula.clause(&[!*is, open, !there]);
                continue;
            };
            self.formula.clause(&[!*is, there, ill]);
            let known = match default {
                Stated::One(scalar) => scalar.read(declared.kind).map(|known| self.literal(&known)),
                _ => None,
            };
            if let Some(known) = known {
                let same = self.same(value, known);
                self.formula.clause(&[!*is, open, !there, same]);
            }
        }
        Read { there, ill, value }
    }

    /// What an attribute of a thing reads.
    pub fn attribute(&mut self, thing: ThingId, name: NameId) -> Read {
        if let Some(known) = self.attributes.get(&(thing, name)) {
            return *known;
        }
        let kinds = self.thing(thing).kinds.clone();
        let model = self.policy.model();
        let declared: Vec<(Bit, &Attribute)> = kinds
            .iter()
            .filter_map(|(kind, is)| Some((*is, model.kinds[kind.index()].attribute(name)?)))
            .collect();
        let no = self.formula.no();
        let Some((_, first)) = declared.first().copied() else {
            return Read { there: no, ill: no, value: Value::Boolean(no) };
        };
        // The request speaks of its own subject and resource; they may be met again on a path.
        let own = thing == self.subject || thing == self.resource;
        let open = match (own, first.from) {
            (true, Source::Register) if thing == self.resource => self.registered,
            (true, _) | (_, Source::Register | Source::Either | Source::RegisterOrToken) => {
                self.formula.yes()
            }
            (false, Source::Request | Source::Token) => {
                let (s, r) = (self.are_same(thing, self.subject), self.are_same(thing, self.resource));
                self.formula.or(s, r)
            }
        };
        let alike = declared.iter().all(|(_, other)| {
            other.kind == first.kind && other.from == first.from && other.values == first.values
        });
        let read = if alike {
            self.stated(&declared, open)
        } else {
            // Kinds that declare it otherwise: what it may be is left open.
            self.open.insert(Open::Declared(self.policy.name(name).to_owned()));
            let plain = Attribute { values: None, default: None, ..first.clone() };
            let yes = self.formula.yes();
            self.stated(&[(yes, &plain)], yes)
        };
        // Of a kind that does not declare it, and of nothing, there is none.
        let declares = self.formula.any(declared.iter().map(|(is, _)| *is));
        let there_itself = self.thing(thing).there;
        let can = self.formula.and(declares, there_itself);
        let read = Read {
            there: self.formula.and(read.there, can),
            ill: self.formula.and(read.ill, can),
            value: read.value,
        };
        self.attributes.insert((thing, name), read);
        read
    }

    /// What a key of the context reads.
    pub fn context(&mut self, index: usize) -> Read {
        if let Some(known) = self.context.get(&index) {
            return *known;
        }
        let declared = self.policy.model().context[index].clone();
        let yes = self.formula.yes();
        let read = self.stated(&[(yes, &declared)], yes);
        self.context.insert(index, read);
        read
    }

    pub fn known_context(&self) -> impl Iterator<Item = (usize, Read)> {
        let mut all: Vec<(usize, Read)> = self.context.iter().map(|(at, read)| (*at, *read)).collect();
        all.sort_by_key(|(at, _)| *at);
        all.into_iter()
    }

    pub fn known_children(&self, thing: ThingId) -> impl Iterator<Item = (&Edge, ThingId)> {
        self.children.iter().filter(move |((from, _), _)| *from == thing).map(|((_, edge), to)| (edge, *to))
    }

    /// A value the charter states.
    pub fn literal(&mut self, value: &crate::value::Value<'_>) -> Value {
        use crate::value::Value as V;
        match value {
            V::Text(text) => Value::Text(self.theory.literal(text)),
            V::Integer(value) => Value::Number(Theory::constant(i128::from(*value) * UNIT, UNIT)),
            V::Decimal(value) => Value::Number(match scaled(*value) {
                Some(value) => Theory::constant(value, if value % UNIT == 0 { UNIT } else { 0 }),
                // Finer than numbers are kept: it may be any.
                None => self.theory.number(0),
            }),
            V::Boolean(value) => Value::Boolean(self.formula.constant(*value)),
            V::Time(time) => Value::Number(Theory::constant(time.as_nanosecond(), 1)),
            V::Duration(duration) => Value::Number(Theory::constant(duration.as_nanos(), 1)),
            V::Address(network) => Value::Address(self.theory.address(Some(*network))),
        }
    }

    /// What one thing has, whatever it is called, it has once.
    pub(super) fn close_things(&mut self) {
        let mut done = std::collections::HashSet::new();
        loop {
            let open: Vec<(u32, u32, Bit)> =
                self.same_thing.pairs().filter(|(a, b, _)| done.insert((*a, *b))).collect();
            if open.is_empty() {
                break;
            }
            for (a, b, same) in open {
                self.agree(ThingId(a), ThingId(b), same);
            }
        }
    }

    fn agree(&mut self, a: ThingId, b: ThingId, same: Bit) {
        let of_b: Vec<(Edge, ThingId)> =
            self.known_children(b).map(|(edge, to)| (edge.clone(), to)).collect();
        for (edge, to_b) in of_b {
            let Some(to_a) = self.children.get(&(a, edge.clone())).copied() else { continue };
            if matches!(edge, Edge::End(..)) {
                continue;
            }
            let (there_a, there_b) = (self.thing(to_a).there, self.thing(to_b).there);
            self.formula.same_if(same, there_a, there_b);
            let ends = self.are_same(to_a, to_b);
            self.formula.clause(&[!same, !there_a, ends]);
        }
        let names: Vec<NameId> =
            self.attributes.keys().filter(|(thing, _)| *thing == b).map(|(_, name)| *name).collect();
        for name in names {
            if let Some(of_a) = self.attributes.get(&(a, name)).copied() {
                let of_b = self.attributes[&(b, name)];
                self.formula.same_if(same, of_a.there, of_b.there);
                self.formula.same_if(same, of_a.ill, of_b.ill);
                let values = self.same(of_a.value, of_b.value);
                self.formula.clause(&[!same, !of_a.there, values]);
            }
        }
        if let (Some(x), Some(y)) = (self.known_id(a), self.known_id(b)) {
            let texts = self.theory.same_text(&mut self.formula, x, y);
            self.formula.implies(same, texts);
        }
        // Not what groups stand for: that depends on the step that led to them.
        for map in [self.detached.clone(), self.of_tenant.clone()] {
            if let (Some(x), Some(y)) = (map.get(&a), map.get(&b)) {
                self.formula.same_if(same, *x, *y);
            }
        }
        for map in [&self.local, &self.by_group] {
            for ((role, _), of_b) in map.iter().filter(|((_, thing), _)| *thing == b) {
                if let Some(of_a) = map.get(&(*role, a)) {
                    self.formula.same_if(same, *of_a, *of_b);
                }
            }
        }
        let lists: Vec<(usize, Box<[Step]>)> = self
            .lists
            .iter()
            .enumerate()
            .filter_map(|(at, (key, _))| match key {
                ListKey::Path(thing, steps) if *thing == b => Some((at, steps.clone())),
                _ => None,
            })
            .collect();
        for (of_b, steps) in lists {
            let Some(of_a) = self.lists.iter().position(|(key, _)| *key == ListKey::Path(a, steps.clone()))
            else {
                continue;
            };
            let (x, y) = (self.lists[of_a].1.whole, self.lists[of_b].1.whole);
            self.formula.same_if(same, x, y);
            let asked: Vec<Value> = self.lists[of_a]
                .1
                .members
                .iter()
                .chain(&self.lists[of_b].1.members)
                .map(|(value, _)| *value)
                .collect();
            for value in asked {
                let (x, y) = (self.member(of_a, value), self.member(of_b, value));
                self.formula.same_if(same, x, y);
            }
        }
    }
}

/// A decimal in billionths, if it is a whole number of them.
pub fn scaled(value: rust_decimal::Decimal) -> Option<i128> {
    let digits = 10i128.checked_pow(9u32.checked_sub(value.scale())?)?;
    value.mantissa().checked_mul(digits)
}
