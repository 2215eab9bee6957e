//! A deny, or a negation in what opens, that reads what only tokens vouch for: leave the claim out, and it says
//! nothing.

use super::*;
use crate::charter::model::{Attribute, GroupId, List, TestId};
use crate::charter::syntax::Source;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    let shuts = model.rules.iter().filter(|rule| rule.effect == Effect::Deny).filter_map(|rule| {
        let when = rule.when.as_ref()?;
        Some((when, when.root, "the rule does not deny"))
    });
    let negated = charter.openings().flat_map(|(when, _)| {
        let inner = when.tests.iter().filter_map(|test| match test {
            Test::Not(inner) => Some(*inner),
            _ => None,
        });
        inner.map(move |inner| (when, inner, "this opens"))
    });
    for (when, root, then) in shuts.chain(negated) {
        let Some(what) = read_silently(model, when, root) else { continue };
        let message = format!("only a token vouches for {what}: where the claim is left out, {then}");
        let finding = Finding::warning("silent-without", when.test_spans[root.index()], message);
        findings.push(finding.help("read it from the register too, or ask for what must be known"));
    }
}

/// What only tokens vouch for, and is not missed where it is absent.
fn read_silently(model: &Model, when: &Condition, at: TestId) -> Option<String> {
    let inner = |parts: &[TestId]| parts.iter().find_map(|part| read_silently(model, when, *part));
    let by_default = |operand: &OperandId| {
        let path = path_of(when, *operand)?;
        let declared = vouched_for(model, path)?;
        declared.1.default.is_some().then_some(declared.0)
    };
    let lists = |list: &List| match list {
        List::Path(path) => vouched_for(model, &when.paths[path.index()])
            .and_then(|(what, declared)| declared.default.is_some().then_some(what)),
        _ => None,
    };
    match &when.tests[at.index()] {
        Test::All(parts) | Test::Any(parts) => inner(parts),
        Test::Not(part) => inner(&[*part]),
        Test::Member(group) => is_vouched(model, *group),
        Test::Known(path) => vouched_for(model, &when.paths[path.index()]).map(|(what, _)| what),
        Test::Holds(a) => by_default(a),
        Test::Equal(a, b) | Test::Order(_, a, b) => by_default(a).or_else(|| by_default(b)),
        Test::Starts(a, b) | Test::Ends(a, b) | Test::Contains(a, b) => {
            by_default(a).or_else(|| by_default(b))
        }
        Test::Fits(a, _) => by_default(a),
        Test::In(a, list) | Test::InNetwork(a, list) => by_default(a).or_else(|| lists(list)),
        Test::Overlaps(a, b) | Test::OverlapNetworks(a, b) => lists(a).or_else(|| lists(b)),
        Test::Constant(_) | Test::HoldsRole(_) | Test::Among(_) => None,
    }
}

fn is_vouched(model: &Model, group: GroupId) -> Option<String> {
    let key = &model.groups[group.index()];
    let name = format!("group:{key}");
    let maps = |issuer: &crate::charter::model::Issuer| {
        issuer.groups.iter().any(|of| of.by_name || of.map.iter().any(|(_, to)| *to == name))
    };
    model.issuers.iter().any(maps).then(|| format!("membership in {key}"))
}

/// What is called so and only a token vouches for it.
fn vouched_for<'m>(model: &'m Model, path: &Path) -> Option<(String, &'m Attribute)> {
    let name = |attribute: &Attribute| model.names.text(attribute.name.0).to_owned();
    let declared = match (path.root, path.steps.first()) {
        (Root::Context(at), _) => &model.context[at],
        (Root::Subject, Some(Step::Attribute(name))) => {
            let kinds = [KindId::USER, KindId::SERVICE].map(|kind| &model.kinds[kind.index()]);
            kinds.into_iter().find_map(|kind| kind.attribute(*name))?
        }
        _ => return None,
    };
    (declared.from == Source::Token).then(|| (name(declared), declared))
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_claim_that_is_left_out() {
        doubts(
            "silent-without",
            r#"
[group.barred]
[subject.service.attributes]
risk = { type = "text", from = "token", default = "low" }
flagged = { type = "boolean", from = "token" }
[[rule]]
key = "barred"
effect = "deny"
permissions = ["vessel:moor"]
when = "member('barred')"
#       ^^^^^^^^^^^^^^^^ only a token vouches for membership in barred: where the claim is left out, the rule does not deny
[[rule]]
key = "risky"
effect = "deny"
permissions = ["vessel:moor"]
when = "subject.risk == 'high'"
#       ^^^^^^^^^^^^^^^^^^^^^^ only a token vouches for risk: where
[[rule]]
key = "flagged"
effect = "deny"
permissions = ["vessel:moor"]
when = "subject.flagged"
[[rule]]
key = "trusted"
effect = "allow"
permissions = ["vessel:moor"]
when = "subject == resource.agent and not member('barred')"
#                                         ^^^^^^^^^^^^^^^^ only a token vouches for membership in barred: where the claim is left out, this opens
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
attributes = { risk = "risk", flagged = "flagged" }
[[issuer.port.groups]]
claim = "groups"
map = { "Barred" = "barred" }
"#,
        );
    }
}
