//! What the solver found, written as facts: names for things, lines of a register, grants, and what
//! a request says.

use super::super::encode::{Edge, Encoding, ListKey, Read, ThingId, Value};
use super::super::formula::Bit;
use super::super::theory::{UNIT, Values};
use super::{Example, MOMENT};
use crate::charter::model::{Attribute, KindId, NameId, PermId, Step};
use crate::decide::question::Request;
use crate::value::{ValueType, format_duration};
use jiff::{SignedDuration, Timestamp};
use rust_decimal::Decimal;
use serde_json::{Map, Value as Json, json};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Default)]
struct Entity {
    within: Option<String>,
    detached: bool,
    tenant: Option<String>,
    tenants: BTreeSet<String>,
    members: BTreeSet<String>,
    attributes: Map<String, Json>,
    relations: BTreeMap<String, Vec<String>>,
}

/// Facts under way.
pub struct Maker<'e, 'p> {
    encoding: &'e Encoding<'p>,
    values: &'e Values,
    /// The name of each thing that is there.
    names: BTreeMap<ThingId, String>,
    entities: BTreeMap<String, Entity>,
    grants: Vec<Json>,
    more: Vec<Json>,
    request: Request,
    fresh: usize,
}

impl<'e, 'p> Maker<'e, 'p> {
    pub fn new(encoding: &'e Encoding<'p>, values: &'e Values) -> Self {
        Maker {
            encoding,
            values,
            names: BTreeMap::new(),
            entities: BTreeMap::new(),
            grants: Vec::new(),
            more: Vec::new(),
            request: Request { vouched: true, ..Request::default() },
            fresh: 0,
        }
    }

    fn is(&self, bit: Bit) -> bool {
        self.encoding.formula.is(bit)
    }

    fn kind(&self, thing: ThingId) -> Option<KindId> {
        let kinds = &self.encoding.thing(thing).kinds;
        kinds.iter().find(|(_, is)| self.is(*is)).map(|(kind, _)| *kind)
    }

    fn key(&self, kind: KindId) -> &'p str {
        &self.encoding.policy.model().kinds[kind.index()].key
    }

    fn fresh(&mut self, kind: KindId) -> String {
        self.fresh += 1;
        format!("{}:other-{}", self.key(kind), self.fresh)
    }

    pub fn example(mut self, permission: PermId) -> Option<Example> {
        self.give_names()?;
        let model = self.encoding.policy.model();
        self.request.permission = model.permissions[permission.index()].text.clone();
        self.request.subject = match self.names.get(&self.encoding.subject) {
            Some(name) => name.clone(),
            None => "anonymous".to_owned(),
        };
        let registered = self.is(self.encoding.registered);
        let name = self.names.get(&self.encoding.resource)?.clone();
        self.request.resource = (registered || self.is(self.encoding.has_id)).then(|| name.clone());
        let things: Vec<(ThingId, String)> =
            self.names.iter().map(|(id, name)| (*id, name.clone())).collect();
        for (thing, name) in &things {
            let out = *thing == self.encoding.resource && !registered;
            let registered = match self.encoding.named_is_registered.get(thing) {
                Some(bit) => self.is(*bit),
                // What the charter names is not registered for that alone.
                None => self.encoding.thing(*thing).named.is_none(),
            };
            if registered && !out {
                self.entities.entry(name.clone()).or_default();
            }
        }
        for (thing, name) in &things {
            self.surround(*thing, name)?;
            self.describe(*thing, name);
        }
        self.lists();
        self.hold();
        self.fill_within()?;
        for (index, read) in self.encoding.known_context().collect::<Vec<_>>() {
            let declared = &model.context[index];
            if let Some(value) = self.stated(read, declared) {
                self.request.context.insert(self.encoding.policy.name(declared.name).to_owned(), value);
            }
        }
        let now = self.values.number(self.encoding.now);
        let now = if now == 0 { None } else { Timestamp::from_nanosecond(now).ok() };
        let now = now.or_else(|| Timestamp::from_second(MOMENT).ok())?;
        Some(Example { lines: self.written(now), request: self.request, now })
    }

    /// Names for everything that is there; what is one thing has one name.
    fn give_names(&mut self) -> Option<()> {
        let encoding = self.encoding;
        let mut none = Vec::new();
        let classes = encoding.same_thing.classes(&encoding.formula, encoding.things.len(), &mut none);
        let mut of_class: BTreeMap<u32, String> = BTreeMap::new();
        let mut taken: BTreeSet<String> = BTreeSet::new();
        let all: Vec<ThingId> = (0..encoding.things.len())
            .map(|at| ThingId(at as u32))
            .filter(|id| self.is(encoding.thing(*id).there))
            .collect();
        for id in &all {
            if let Some(name) = &encoding.thing(*id).named {
                of_class.insert(classes[id.0 as usize], name.clone());
                taken.insert(name.clone());
            }
        }
        for id in &all {
            let class = classes[id.0 as usize];
            if let Some(said) = encoding.known_id(*id).and_then(|text| self.values.text(text))
                && !of_class.contains_key(&class)
            {
                let name =
                    format!("{}:{}", self.key(self.kind(*id)?), if said.is_empty() { "x" } else { said });
                taken.insert(name.clone());
                of_class.insert(class, name);
            }
        }
        for id in all {
            let class = classes[id.0 as usize];
            let kind = self.key(self.kind(id)?);
            let name = of_class.entry(class).or_insert_with(|| {
                let word = match id {
                    id if id == encoding.subject => "somebody",
                    id if id == encoding.resource => "this",
                    _ => "one",
                };
                let plain = format!("{kind}:{word}");
                let numbered = (2..).map(|n| format!("{kind}:{word}-{n}"));
                std::iter::once(plain).chain(numbered).find(|name| !taken.contains(name)).unwrap_or_default()
            });
            taken.insert(name.clone());
            self.names.insert(id, name.clone());
        }
        Some(())
    }

    /// What it lies within, its tenant, whether it is detached.
    fn surround(&mut self, thing: ThingId, name: &str) -> Option<()> {
        let encoding = self.encoding;
        let children: Vec<(Edge, ThingId)> =
            encoding.known_children(thing).map(|(edge, to)| (edge.clone(), to)).collect();
        let out = thing == encoding.resource && !self.is(encoding.registered);
        for (edge, to) in children {
            let Some(other) = self.names.get(&to).cloned() else { continue };
            match edge {
                Edge::Within if out => {
                    drop(self.request.of_resource.insert("within".to_owned(), other.into()))
                }
                Edge::Within => {
                    if let Some(entity) = self.entities.get_mut(name) {
                        entity.within = Some(other);
                    }
                }
                Edge::Tenant if self.kind(thing) == Some(KindId::GROUP) => {
                    if let Some(entity) = self.entities.get_mut(name) {
                        entity.tenant = other.strip_prefix("tenant:").map(str::to_owned);
                    }
                }
                Edge::Relation(relation) => self.relate(thing, name, relation, vec![other]),
                Edge::Tenant | Edge::End(..) => {}
            }
        }
        if encoding.detached.get(&thing).is_some_and(|bit| self.is(*bit))
            && let Some(entity) = self.entities.get_mut(name)
        {
            entity.detached = true;
        }
        Some(())
    }

    fn relate(&mut self, thing: ThingId, name: &str, relation: NameId, to: Vec<String>) {
        let Some(kind) = self.kind(thing) else { return };
        let Some(declared) = self.encoding.policy.model().kinds[kind.index()].relation(relation) else {
            return;
        };
        let key = self.encoding.policy.name(relation).to_owned();
        let out = thing == self.encoding.resource && !self.is(self.encoding.registered);
        if out || !declared.from.reads_register() {
            let said = if declared.many { json!(to) } else { json!(to.first()) };
            if thing == self.encoding.subject {
                self.request.of_subject.insert(key, said);
            } else if thing == self.encoding.resource {
                self.request.of_resource.insert(key, said);
            }
        } else if let Some(entity) = self.entities.get_mut(name) {
            entity.relations.insert(key, to);
        }
    }

    /// Its attributes.
    fn describe(&mut self, thing: ThingId, name: &str) {
        let Some(kind) = self.kind(thing) else { return };
        let mut all: Vec<_> = self.encoding.attributes.iter().filter(|((of, _), _)| *of == thing).collect();
        all.sort_by_key(|((_, name), _)| *name);
        for ((_, attribute), read) in all {
            let declared = self.encoding.policy.model().kinds[kind.index()].attribute(*attribute);
            let Some(value) = declared.and_then(|declared| self.stated(*read, declared)) else { continue };
            if let Some(declared) = declared {
                self.state(thing, name, declared, value);
            }
        }
    }

    fn state(&mut self, thing: ThingId, name: &str, declared: &Attribute, value: Json) {
        let key = self.encoding.policy.name(declared.name).to_owned();
        let out = thing == self.encoding.resource && !self.is(self.encoding.registered);
        if out || !declared.from.reads_register() {
            if thing == self.encoding.subject {
                self.request.of_subject.insert(key, value);
            } else if thing == self.encoding.resource {
                self.request.of_resource.insert(key, value);
            }
        } else if let Some(entity) = self.entities.get_mut(name) {
            entity.attributes.insert(key, value);
        }
    }

    fn stated(&self, read: Read, declared: &Attribute) -> Option<Json> {
        if self.is(read.there) {
            return self.json(read.value, declared.kind);
        }
        self.is(read.ill).then(|| ill(declared.kind))
    }

    fn json(&self, value: Value, kind: ValueType) -> Option<Json> {
        Some(match (value, kind) {
            (Value::Text(text), _) => {
                let known = self.encoding.theory.known_text(text).or_else(|| self.values.text(text));
                known.unwrap_or("x").into()
            }
            (Value::Boolean(bit), _) => self.is(bit).into(),
            (Value::Address(address), _) => {
                let found = self.values.address(address)?;
                let single = found.prefix_len() == found.max_prefix_len();
                if single { found.addr().to_string().into() } else { found.to_string().into() }
            }
            (Value::Number(number), ValueType::Integer) => {
                i64::try_from(self.values.number(number).div_euclid(UNIT)).ok()?.into()
            }
            (Value::Number(number), ValueType::Decimal) => {
                Decimal::try_from_i128_with_scale(self.values.number(number), 9)
                    .ok()?
                    .normalize()
                    .to_string()
                    .into()
            }
            (Value::Number(number), ValueType::Time) => {
                Timestamp::from_nanosecond(self.values.number(number)).ok()?.to_string().into()
            }
            (Value::Number(number), ValueType::Duration) => {
                let whole = self.values.number(number).div_euclid(UNIT);
                format_duration(SignedDuration::from_secs(i64::try_from(whole).ok()?)).into()
            }
            _ => return None,
        })
    }

    /// Lists with the members that were asked about.
    fn lists(&mut self) {
        for at in 0..self.encoding.lists.len() {
            let (key, list) = &self.encoding.lists[at];
            let whole = self.is(list.whole);
            let in_it: Vec<Value> =
                list.members.iter().filter(|(_, bit)| self.is(*bit)).map(|(value, _)| *value).collect();
            let among = self.encoding.among.get(&at).is_some_and(|bit| self.is(*bit));
            let wanted = list.count.map_or(0, |count| self.values.number(count) / UNIT);
            let wanted = if whole { usize::try_from(wanted).unwrap_or(0).min(100) } else { 0 };
            let shared =
                self.encoding.overlaps.iter().position(|(a, b, bit)| (*a == at || *b == at) && self.is(*bit));
            if !whole && in_it.is_empty() && !among && shared.is_none() {
                continue;
            }
            match key.clone() {
                ListKey::Path(thing, steps) | ListKey::Ends(thing, steps) => {
                    let Some(name) = self.names.get(&thing).cloned() else { continue };
                    match &*steps {
                        [Step::Attribute(attribute)] => {
                            self.attribute_list(thing, &name, *attribute, &in_it, wanted, shared)
                        }
                        [Step::Relation(relation), ..] => {
                            self.relation_list(thing, &name, *relation, &in_it, among, wanted, shared)
                        }
                        _ => {}
                    }
                }
                ListKey::Context(index) => {
                    let declared = &self.encoding.policy.model().context[index];
                    let values = self.values_of(&in_it, declared, wanted, shared);
                    self.request.context.insert(self.encoding.policy.name(declared.name).to_owned(), values);
                }
                ListKey::Grant(..) => {}
            }
        }
    }

    fn values_of(&self, in_it: &[Value], declared: &Attribute, wanted: usize, shared: Option<usize>) -> Json {
        let mut all: Vec<Json> = in_it.iter().filter_map(|value| self.json(*value, declared.kind)).collect();
        all.dedup();
        if let (Some(shared), ValueType::Text) = (shared, declared.kind) {
            all.push(format!("shared-{shared}").into());
        }
        for n in all.len()..wanted {
            match declared.kind {
                ValueType::Text => all.push(format!("another-{n}").into()),
                ValueType::Integer | ValueType::Decimal => all.push((1_000_000 + n).into()),
                _ => {}
            }
        }
        Json::Array(all)
    }

    fn attribute_list(
        &mut self,
        thing: ThingId,
        name: &str,
        attribute: NameId,
        in_it: &[Value],
        wanted: usize,
        shared: Option<usize>,
    ) {
        let Some(kind) = self.kind(thing) else { return };
        let Some(declared) = self.encoding.policy.model().kinds[kind.index()].attribute(attribute) else {
            return;
        };
        let values = self.values_of(in_it, declared, wanted, shared);
        self.state(thing, name, declared, values);
    }

    fn relation_list(
        &mut self,
        thing: ThingId,
        name: &str,
        relation: NameId,
        in_it: &[Value],
        among: bool,
        wanted: usize,
        shared: Option<usize>,
    ) {
        let Some(kind) = self.kind(thing) else { return };
        let Some(declared) = self.encoding.policy.model().kinds[kind.index()].relation(relation) else {
            return;
        };
        let mut to: Vec<String> = in_it
            .iter()
            .filter_map(|value| match value {
                Value::Thing(thing) => self.names.get(thing).cloned(),
                _ => None,
            })
            .collect();
        to.sort();
        to.dedup();
        let subject = self.names.get(&self.encoding.subject).cloned();
        if among && let Some(subject) = subject.filter(|subject| !to.contains(subject)) {
            let group = format!("group:of-{}", self.encoding.policy.name(relation));
            self.entities.entry(group.clone()).or_default().members.insert(subject);
            to.push(group);
        }
        let plain = declared.to.iter().copied().find(|kind| kind.is_subject());
        if let (Some(shared), Some(kind)) = (shared, plain) {
            let common = format!("{}:shared-{shared}", self.key(kind));
            self.entities.entry(common.clone()).or_default();
            to.push(common);
        }
        while to.len() < wanted {
            let Some(kind) = plain else { break };
            let another = self.fresh(kind);
            self.entities.entry(another.clone()).or_default();
            to.push(another);
        }
        self.relate(thing, name, relation, to);
    }

    /// Groups, memberships, grants.
    fn hold(&mut self) {
        let encoding = self.encoding;
        let policy = encoding.policy;
        let Some(subject) = self.names.get(&encoding.subject).cloned() else { return };
        let kind = self.kind(encoding.subject);
        for ((group, _), bit) in &encoding.members {
            if self.is(*bit) {
                let name = format!("group:{}", policy.group(*group));
                self.entities.entry(name).or_default().members.insert(subject.clone());
            }
        }
        for (thing, bit) in &encoding.in_group {
            if self.is(*bit)
                && self.kind(*thing) == Some(KindId::GROUP)
                && let Some(entity) = self.names.get(thing).and_then(|name| self.entities.get_mut(name))
            {
                entity.members.insert(subject.clone());
            }
        }
        for (tenant, bit) in &encoding.of_tenant {
            if self.is(*bit)
                && let Some(id) = self.names.get(tenant).and_then(|name| name.strip_prefix("tenant:"))
                && let Some(entity) = self.entities.get_mut(&subject)
            {
                entity.tenants.insert(id.to_owned());
            }
        }
        let mut held: Vec<(String, String, String)> = Vec::new();
        let may =
            |role: crate::charter::model::RoleId| kind.is_some_and(|kind| encoding.role(role).held_by(kind));
        let key = |role: crate::charter::model::RoleId| encoding.role(role).key.clone();
        for ((role, thing), bit) in &encoding.local {
            let here = self.kind(*thing).filter(|kind| {
                encoding.role(*role).held_at.as_ref().is_none_or(|held| held.permits(Some(*kind)))
            });
            if self.is(*bit)
                && may(*role)
                && here.is_some()
                && let Some(name) = self.names.get(thing).filter(|name| self.entities.contains_key(*name))
            {
                held.push((key(*role), subject.clone(), name.clone()));
            }
        }
        for (role, bit) in encoding.everywhere.iter().filter(|(role, _)| may(**role)) {
            if self.is(*bit) {
                held.push((key(*role), subject.clone(), "everywhere".to_owned()));
            }
        }
        for ((role, tenant), bit) in encoding.by_group.iter().filter(|((role, _), _)| may(*role)) {
            if let (true, Some(id)) =
                (self.is(*bit), self.names.get(tenant).and_then(|name| name.strip_prefix("tenant:")))
            {
                let group = format!("group:all-{}", key(*role));
                let entity = self.entities.entry(group.clone()).or_default();
                entity.tenant = Some(id.to_owned());
                entity.members.insert(subject.clone());
                held.push((key(*role), group, "everywhere".to_owned()));
            }
        }
        held.sort();
        for (n, (role, to, at)) in held.into_iter().enumerate() {
            self.grant(n, &role, &to, &at, &subject);
        }
        self.tenants_role(&subject);
    }

    fn grant(&mut self, n: usize, role: &str, to: &str, at: &str, subject: &str) {
        let Some(id) = self.encoding.policy.role(role) else { return };
        let declared = self.encoding.role(id);
        let mut values = Map::new();
        for (name, kind) in &declared.values {
            let list = self.encoding.lists.iter().find(|(key, _)| {
                matches!(key, ListKey::Grant(of, known) if *of == id && self.encoding.policy.name(*known) == name)
            });
            let stated: Vec<Json> = list.map_or_else(Vec::new, |(_, list)| {
                let members = list.members.iter().filter(|(_, bit)| self.is(*bit));
                members.filter_map(|(value, _)| self.json(*value, *kind)).collect()
            });
            let stated = if stated.is_empty() { vec![some_value(*kind)] } else { stated };
            values.insert(name.clone(), Json::Array(stated));
        }
        let mut grant = json!({ "id": format!("g-{}", n + 1), "role": role, "to": to, "at": at });
        if !values.is_empty() {
            grant["values"] = Json::Object(values);
        }
        self.grants.push(json!({ "grant": grant }));
        if declared.standby.is_some() {
            self.more.push(json!({ "grant": format!("g-{}", n + 1), "subject": subject }));
        }
    }

    fn tenants_role(&mut self, subject: &str) {
        let encoding = self.encoding;
        let permissions: Vec<&str> = encoding
            .made
            .iter()
            .filter(|(_, bit)| self.is(*bit))
            .map(|(permission, _)| encoding.policy.model().permissions[permission.index()].text.as_str())
            .collect();
        let tenant = encoding.known_children(encoding.resource).find(|(edge, _)| **edge == Edge::Tenant);
        let tenant =
            tenant.and_then(|(_, id)| self.names.get(&id)).and_then(|name| name.strip_prefix("tenant:"));
        if let (false, Some(tenant)) = (permissions.is_empty(), tenant) {
            self.grants.push(
                json!({ "tenant-role": { "tenant": tenant, "key": "own", "permissions": permissions } }),
            );
            let role = format!("{tenant}/own");
            self.grants
                .push(json!({ "grant": { "role": role, "to": subject, "at": format!("tenant:{tenant}") } }));
        }
    }

    /// Whatever must lie within something and does not yet is put somewhere.
    fn fill_within(&mut self) -> Option<()> {
        let encoding = self.encoding;
        let model = encoding.policy.model();
        let mut tenants: BTreeMap<String, Option<String>> = BTreeMap::new();
        for (thing, name) in &self.names {
            for (edge, to) in encoding.known_children(*thing) {
                if *edge == Edge::Tenant {
                    tenants.insert(name.clone(), self.names.get(&to).cloned());
                }
            }
        }
        let mut waiting: Vec<String> = self.entities.keys().cloned().collect();
        while let Some(name) = waiting.pop() {
            let Some(kind) = name.split(':').next().and_then(|key| encoding.policy.kind(key)) else {
                continue;
            };
            let within = &model.kinds[kind.index()].within;
            if within.is_empty() || self.entities.get(&name).is_none_or(|entity| entity.within.is_some()) {
                continue;
            }
            let tenant = tenants.get(&name).cloned().unwrap_or_else(|| Some("tenant:one".to_owned()));
            let wanted = |kind: KindId| match tenant {
                Some(_) => kind == KindId::TENANT,
                None => kind != KindId::TENANT && model.kinds[kind.index()].within.is_empty(),
            };
            let next = toward(&encoding.policy.model().kinds, kind, &wanted)?;
            let outer = match &tenant {
                Some(tenant) if next == KindId::TENANT => tenant.clone(),
                _ => self.fresh(next),
            };
            tenants.insert(outer.clone(), tenant);
            self.entities.get_mut(&name)?.within = Some(outer.clone());
            self.entities.entry(outer.clone()).or_default();
            waiting.push(outer);
        }
        Some(())
    }

    /// The register's lines: what contains before what it contains, then members and grants.
    fn written(&self, now: Timestamp) -> Vec<Json> {
        let mut lines: Vec<Json> = Vec::new();
        for (name, entity) in &self.entities {
            let mut line = json!({ "entity": name });
            let mut set = |key: &str, value: Json| line[key] = value;
            if let Some(within) = &entity.within {
                set("within", json!(within));
            }
            if entity.detached {
                set("detached", json!(true));
            }
            if let Some(tenant) = &entity.tenant {
                set("tenant", json!(tenant));
            }
            if !entity.tenants.is_empty() {
                set("tenants", json!(entity.tenants));
            }
            if !entity.members.is_empty() {
                set("members", json!(entity.members));
            }
            if !entity.attributes.is_empty() {
                set("attributes", Json::Object(entity.attributes.clone()));
            }
            if !entity.relations.is_empty() {
                set("relations", json!(entity.relations));
            }
            lines.push(line);
        }
        lines.extend(self.grants.iter().cloned());
        for activation in &self.more {
            let mut activation = activation.clone();
            let until = now.checked_add(SignedDuration::from_mins(1)).unwrap_or(now);
            activation["until"] = until.to_string().into();
            activation["reason"] = "an example".into();
            lines.push(json!({ "activation": activation }));
        }
        lines
    }
}

/// The first step from a kind towards one that is wanted.
fn toward(
    kinds: &[crate::charter::model::Kind],
    from: KindId,
    wanted: &dyn Fn(KindId) -> bool,
) -> Option<KindId> {
    let mut waiting: std::collections::VecDeque<(KindId, KindId)> =
        kinds[from.index()].within.iter().map(|kind| (*kind, *kind)).collect();
    let mut seen = vec![from];
    while let Some((first, at)) = waiting.pop_front() {
        if wanted(at) {
            return Some(first);
        }
        if !seen.contains(&at) {
            seen.push(at);
            waiting.extend(kinds[at.index()].within.iter().map(|next| (first, *next)));
        }
    }
    None
}

/// Something a value of this type cannot be.
fn ill(kind: ValueType) -> Json {
    match kind {
        ValueType::Text => json!(7),
        _ => json!("not of its type"),
    }
}

fn some_value(kind: ValueType) -> Json {
    match kind {
        ValueType::Text => json!("none"),
        ValueType::Integer | ValueType::Decimal => json!(0),
        ValueType::Boolean => json!(false),
        ValueType::Time => json!("2000-01-01T00:00:00Z"),
        ValueType::Duration => json!("0s"),
        ValueType::Address => json!("192.0.2.1"),
    }
}
