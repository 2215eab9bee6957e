//! Looking around what the solver offered: small changes to a register and a question, each asked
//! of the engine.
//!
//! What a formula leaves open it cannot make into an example; often one stands close by. From what
//! the solver offered last this walks on by changes that bring it no further from breaking the
//! guarantee, over values that the charter and the guarantee name and their neighbours. It only
//! ever finds what the engine itself says: it can refute, never prove.

use super::Guarantee;
use super::example::Example;
use crate::charter::model::{Attribute, Condition, KindId, List, Operand, Relation, Test};
use crate::charter::policy::Policy;
use crate::value::{Value, ValueType, format_duration};
use fastrand::Rng;
use jiff::{SignedDuration, Timestamp};
use serde_json::{Map, Value as Json, json};
use std::sync::Arc;

/// How many registers and questions are asked.
const TRIALS: usize = 4_000;
/// After how many that came no nearer it begins anew.
const PATIENCE: usize = 150;

/// Looks for an example around these; `go_on` is asked from time to time.
pub fn look(
    policy: &Arc<Policy>,
    guarantee: &Guarantee,
    around: &[Example],
    go_on: &dyn Fn() -> bool,
) -> Option<Example> {
    let changing = Changing::new(policy, guarantee, around);
    let mut rng = Rng::with_seed(7);
    let mut trials = 0;
    for begin in around.iter().cycle() {
        let (mut at, mut nearness) = (begin.clone(), begin.nearness(policy, guarantee).unwrap_or(0));
        let mut since = 0;
        while since < PATIENCE {
            if trials >= TRIALS || (trials % 32 == 0 && !go_on()) {
                return None;
            }
            trials += 1;
            since += 1;
            let mut next = at.clone();
            for _ in 0..rng.usize(1..4) {
                changing.change(&mut next, &mut rng);
            }
            match next.nearness(policy, guarantee) {
                Some(super::example::BROKEN) => return Some(next.smallest(policy, guarantee)),
                Some(now) if now >= nearness => {
                    if now > nearness {
                        since = 0;
                    }
                    (at, nearness) = (next, now);
                }
                _ => {}
            }
        }
    }
    None
}

/// What can be changed, and to what.
struct Changing<'p> {
    policy: &'p Policy,
    numbers: Vec<i64>,
    decimals: Vec<String>,
    texts: Vec<String>,
    times: Vec<Timestamp>,
    durations: Vec<SignedDuration>,
    addresses: Vec<String>,
    entities: Vec<String>,
}

impl<'p> Changing<'p> {
    fn new(policy: &'p Policy, guarantee: &Guarantee, around: &[Example]) -> Changing<'p> {
        let now = around.first().map_or(Timestamp::UNIX_EPOCH, |example| example.now);
        let mut changing = Changing {
            policy,
            numbers: vec![-1, 0, 1, 2, 5, 100],
            decimals: ["-1", "0", "0.5", "1", "10"].map(str::to_owned).to_vec(),
            texts: ["", "x", "X", "other"].map(str::to_owned).to_vec(),
            times: vec![now],
            durations: vec![SignedDuration::ZERO, SignedDuration::from_hours(1)],
            addresses: ["192.0.2.1", "10.0.0.0/8", "2001:db8::1"].map(str::to_owned).to_vec(),
            entities: Vec::new(),
        };
        for condition in policy.model().conditions().chain(guarantee.when.iter().chain(&guarantee.assume)) {
            changing.take_from(condition);
        }
        changing
    }

    /// The values a condition names, and their neighbours.
    fn take_from(&mut self, condition: &Condition) {
        for operand in &condition.operands {
            match operand {
                Operand::Value(value) => self.take(value),
                Operand::Entity(name) => self.entities.push(name.to_string()),
                _ => {}
            }
        }
        for test in &condition.tests {
            match test {
                Test::In(_, List::Values(values)) | Test::InNetwork(_, List::Values(values)) => {
                    values.iter().for_each(|value| self.take(value));
                }
                Test::Overlaps(a, b) | Test::OverlapNetworks(a, b) => {
                    for list in [a, b] {
                        if let List::Values(values) = list {
                            values.iter().for_each(|value| self.take(value));
                        }
                    }
                }
                Test::In(_, List::Entities(names)) => {
                    self.entities.extend(names.iter().map(ToString::to_string));
                }
                Test::Fits(_, pattern) => {
                    self.texts.extend(["", "x"].map(|run| pattern.replace('*', run).replace('?', "y")))
                }
                _ => {}
            }
        }
    }

    fn take(&mut self, value: &Value<'_>) {
        match value {
            Value::Integer(number) => {
                self.numbers.extend([number.saturating_sub(1), *number, number.saturating_add(1)]);
                self.decimals.push(number.to_string());
            }
            Value::Decimal(number) => {
                let step = rust_decimal::Decimal::new(1, 3);
                let around = [number.checked_sub(step), Some(*number), number.checked_add(step)];
                self.decimals.extend(around.into_iter().flatten().map(|number| number.to_string()));
            }
            Value::Text(text) => {
                self.texts.extend([
                    text.to_string(),
                    text.to_uppercase(),
                    format!("{text}x"),
                    format!("x{text}"),
                ]);
            }
            Value::Time(time) => {
                let around = [-1, 0, 1].map(|step| time.checked_add(SignedDuration::from_secs(step)).ok());
                self.times.extend(around.into_iter().flatten());
            }
            Value::Duration(duration) => {
                let around = [-1, 0, 1].map(|step| duration.checked_add(SignedDuration::from_secs(step)));
                self.durations.extend(around.into_iter().flatten());
            }
            Value::Address(network) => {
                self.addresses.extend([network.to_string(), network.addr().to_string()]);
            }
            Value::Boolean(_) => {}
        }
    }

    /// One small change.
    fn change(&self, example: &mut Example, rng: &mut Rng) {
        match rng.u8(0..20) {
            0..6 => self.change_attribute(example, rng),
            6..10 => self.change_relation(example, rng),
            10..12 => self.change_context(example, rng),
            12..14 => self.change_grants(example, rng),
            14..16 => self.change_membership(example, rng),
            16 => {
                if let Some(line) = some_entity(example, rng) {
                    let detached = example.lines[line].get("detached") == Some(&json!(true));
                    example.lines[line]["detached"] = (!detached).into();
                }
            }
            17 => self.change_moment(example, rng),
            18 => self.change_place(example, rng),
            _ => {
                let less: Vec<usize> = (0..example.lines.len()).filter(|at| !example.is_about(*at)).collect();
                if let Some(line) = rng.choice(less) {
                    example.lines.remove(line);
                }
            }
        }
    }

    fn kind_of(&self, name: &str) -> Option<KindId> {
        self.policy.kind(name.split(':').next()?)
    }

    /// Where something is stated of an entity: in its line, or in the question if that is where its
    /// type lets it come from.
    fn said<'e>(
        &self,
        example: &'e mut Example,
        line: usize,
        name: &str,
        by_request: bool,
        part: &str,
    ) -> Option<&'e mut Map<String, Json>> {
        if by_request {
            if example.request.subject == name {
                return Some(&mut example.request.of_subject);
            }
            if example.request.resource.as_deref() == Some(name) {
                return Some(&mut example.request.of_resource);
            }
        }
        let line = example.lines.get_mut(line)?;
        if line.get(part).is_none() {
            line[part] = json!({});
        }
        line.get_mut(part)?.as_object_mut()
    }

    fn change_attribute(&self, example: &mut Example, rng: &mut Rng) {
        let Some(line) = some_entity(example, rng) else { return };
        let name = name_of(&example.lines[line]).to_owned();
        let Some(kind) = self.kind_of(&name) else { return };
        let declared = &self.policy.model().kinds[kind.index()].attributes;
        let Some(attribute) = rng.choice(declared.iter()) else { return };
        let key = self.policy.name(attribute.name).to_owned();
        let by_request = attribute.from.reads_request() && (!attribute.from.reads_register() || rng.bool());
        let value = self.value_of(attribute, rng);
        let Some(said) = self.said(example, line, &name, by_request, "attributes") else { return };
        match value {
            Some(value) => drop(said.insert(key, value)),
            None => drop(said.shift_remove(&key)),
        }
    }

    /// A value, now and then one of the wrong type; or nothing.
    fn value_of(&self, attribute: &Attribute, rng: &mut Rng) -> Option<Json> {
        match rng.u8(0..16) {
            0 | 1 => None,
            2 => Some(if attribute.kind == ValueType::Text { json!(7) } else { json!("not of its type") }),
            _ if attribute.many => Some(
                (0..rng.usize(0..4)).map(|_| self.one_value(attribute, rng)).collect::<Vec<Json>>().into(),
            ),
            _ => Some(self.one_value(attribute, rng)),
        }
    }

    fn one_value(&self, attribute: &Attribute, rng: &mut Rng) -> Json {
        let stated = attribute.values.as_ref().and_then(|values| rng.choice(values.iter()));
        stated.map_or_else(|| self.plain(attribute.kind, rng), Value::to_json)
    }

    fn plain(&self, kind: ValueType, rng: &mut Rng) -> Json {
        match kind {
            ValueType::Integer => rng.choice(&self.numbers).map(|number| json!(number)),
            ValueType::Decimal => rng.choice(&self.decimals).map(|number| json!(number)),
            ValueType::Text => rng.choice(&self.texts).map(|text| json!(text)),
            ValueType::Time => rng.choice(&self.times).map(|time| json!(time.to_string())),
            ValueType::Duration => rng.choice(&self.durations).map(|one| json!(format_duration(*one))),
            ValueType::Address => rng.choice(&self.addresses).map(|address| json!(address)),
            ValueType::Boolean => None,
        }
        .unwrap_or_else(|| rng.bool().into())
    }

    fn change_relation(&self, example: &mut Example, rng: &mut Rng) {
        let Some(line) = some_entity(example, rng) else { return };
        let name = name_of(&example.lines[line]).to_owned();
        let Some(kind) = self.kind_of(&name) else { return };
        let Some(relation) = rng.choice(self.policy.model().kinds[kind.index()].relations.iter()) else {
            return;
        };
        let key = self.policy.name(relation.name).to_owned();
        let by_request = relation.from.reads_request() && (!relation.from.reads_register() || rng.bool());
        let count = if relation.many { rng.usize(0..3) } else { 1 };
        let ends: Vec<String> = (0..count).filter_map(|_| self.end_of(relation, example, rng)).collect();
        let nothing = rng.u8(0..8) == 0;
        let Some(said) = self.said(example, line, &name, by_request, "relations") else { return };
        match ends.first() {
            _ if nothing => drop(said.shift_remove(&key)),
            Some(first) if !relation.many => drop(said.insert(key, json!(first))),
            _ if relation.many => drop(said.insert(key, json!(ends))),
            _ => {}
        }
    }

    /// Something that a relation may lead to: what is there, or what is made for it.
    fn end_of(&self, relation: &Relation, example: &mut Example, rng: &mut Rng) -> Option<String> {
        let kind = *rng.choice(&relation.to)?;
        self.one_of(kind, example, rng, 3)
    }

    /// An entity of a kind, often one that is there.
    fn one_of(&self, kind: KindId, example: &mut Example, rng: &mut Rng, deep: usize) -> Option<String> {
        let key = &self.policy.model().kinds[kind.index()].key;
        let there = |name: &&str| name.strip_prefix(key.as_str()).is_some_and(|rest| rest.starts_with(':'));
        let known: Vec<String> = example.lines.iter().map(name_of).filter(there).map(str::to_owned).collect();
        if rng.u8(0..4) > 0
            && let Some(name) = rng.choice(known.iter())
        {
            return Some(name.clone());
        }
        let named = self.entities.iter().find(|name| there(&name.as_str()) && !known.contains(name));
        let name = match named.filter(|_| rng.bool()) {
            Some(name) => name.clone(),
            None => (1..).map(|n| format!("{key}:near-{n}")).find(|name| !known.contains(name))?,
        };
        let mut line = json!({ "entity": name });
        let within = &self.policy.model().kinds[kind.index()].within;
        if !within.is_empty() {
            let outer = *rng.choice(within)?;
            let outer =
                if deep == 0 { *within.iter().find(|kind| **kind != outer).unwrap_or(&outer) } else { outer };
            line["within"] = self.one_of(outer, example, rng, deep.checked_sub(1)?)?.into();
        }
        example.lines.insert(0, line);
        Some(name)
    }

    fn change_context(&self, example: &mut Example, rng: &mut Rng) {
        let Some(declared) = rng.choice(self.policy.model().context.iter()) else { return };
        let key = self.policy.name(declared.name).to_owned();
        match self.value_of(declared, rng) {
            Some(value) => drop(example.request.context.insert(key, value)),
            None => drop(example.request.context.shift_remove(&key)),
        }
    }

    fn change_grants(&self, example: &mut Example, rng: &mut Rng) {
        let held: Vec<usize> =
            (0..example.lines.len()).filter(|at| example.lines[*at].get("grant").is_some()).collect();
        if rng.u8(0..3) == 0 {
            if let Some(at) = rng.choice(&held) {
                let id = example.lines[*at]["grant"]["id"].clone();
                example.lines.retain(|line| line["activation"]["grant"] != id || id.is_null());
                example.lines.retain(|line| line["grant"]["id"] != id || id.is_null());
            }
            return;
        }
        let Some(role) = rng.choice(&self.policy.model().roles).filter(|role| role.grantable) else { return };
        let subject = example.request.subject.clone();
        let places: Vec<String> = example
            .lines
            .iter()
            .map(name_of)
            .filter(|name| self.kind_of(name).is_some_and(|kind| !kind.is_subject() && kind != KindId::GROUP))
            .map(str::to_owned)
            .chain(["everywhere".to_owned()])
            .collect();
        let Some(place) = rng.choice(&places) else { return };
        let id = (1..)
            .map(|n| format!("near-{n}"))
            .find(|id| !example.lines.iter().any(|line| line["grant"]["id"] == **id));
        let mut grant = json!({ "id": id, "role": role.key, "to": subject, "at": place });
        for (name, kind) in &role.values {
            grant["values"][name] = json!([self.plain(*kind, rng)]);
        }
        example.lines.push(json!({ "grant": grant }));
        if role.standby.is_some() {
            let until = example.now.checked_add(SignedDuration::from_mins(1)).unwrap_or(example.now);
            example.lines.push(json!({ "activation": { "grant": id, "subject": subject, "until": until.to_string(), "reason": "an example" } }));
        }
    }

    fn change_membership(&self, example: &mut Example, rng: &mut Rng) {
        let subject = example.request.subject.clone();
        let tenant = rng.bool();
        let kind = if tenant { KindId::TENANT } else { KindId::GROUP };
        if !tenant && rng.bool() && !self.policy.model().groups.is_empty() {
            let group =
                format!("group:{}", rng.choice(&self.policy.model().groups).map_or("", |key| key.as_str()));
            if !example.lines.iter().any(|line| name_of(line) == group) {
                example.lines.insert(0, json!({ "entity": group }));
            }
        }
        let Some(name) = self.one_of(kind, example, rng, 1) else { return };
        let (line, key, member) = if tenant {
            (subject.as_str(), "tenants", name.strip_prefix("tenant:").unwrap_or_default())
        } else {
            (name.as_str(), "members", subject.as_str())
        };
        let Some(line) = example.lines.iter_mut().find(|found| name_of(found) == line) else { return };
        let mut all: Vec<Json> = line[key].as_array().cloned().unwrap_or_default();
        match all.iter().position(|known| known == member) {
            Some(at) => drop(all.remove(at)),
            None => all.push(member.into()),
        }
        line[key] = all.into();
    }

    fn change_moment(&self, example: &mut Example, rng: &mut Rng) {
        let hours = SignedDuration::from_hours(rng.i64(0..168));
        let now = rng
            .choice(&self.times)
            .and_then(|time| time.checked_add(if rng.bool() { hours } else { SignedDuration::ZERO }).ok());
        let Some(now) = now else { return };
        example.now = now;
        let until = now.checked_add(SignedDuration::from_mins(1)).unwrap_or(now).to_string();
        for line in example.lines.iter_mut().filter(|line| line.get("activation").is_some()) {
            line["activation"]["until"] = until.clone().into();
        }
    }

    /// Puts something elsewhere.
    fn change_place(&self, example: &mut Example, rng: &mut Rng) {
        let Some(line) = some_entity(example, rng) else { return };
        let name = name_of(&example.lines[line]).to_owned();
        let Some(kind) = self.kind_of(&name) else { return };
        let Some(outer) = rng.choice(&self.policy.model().kinds[kind.index()].within) else { return };
        let Some(outer) = self.one_of(*outer, example, rng, 3) else { return };
        if let Some(line) = example.lines.iter_mut().find(|line| name_of(line) == name) {
            line["within"] = outer.into();
        }
    }
}

fn name_of(line: &Json) -> &str {
    line.get("entity").and_then(Json::as_str).unwrap_or_default()
}

fn some_entity(example: &Example, rng: &mut Rng) -> Option<usize> {
    let is_entity = |at: &usize| example.lines[*at].get("entity").is_some();
    let all: Vec<usize> = (0..example.lines.len()).filter(is_entity).collect();
    rng.choice(all)
}
