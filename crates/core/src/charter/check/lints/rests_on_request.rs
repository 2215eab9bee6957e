//! An allow rule that rests on nothing but what the request says: whoever asks decides.

use super::*;
use crate::charter::syntax::Source;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for rule in charter.model.rules.iter().filter(|rule| rule.effect == Effect::Allow) {
        let Some(when) = &rule.when else { continue };
        let asks = when
            .tests
            .iter()
            .any(|test| matches!(test, Test::HoldsRole(_) | Test::Member(_) | Test::Among(_)));
        let said = |path: &Path| match (path.root, path.steps.first()) {
            (Root::Context(_), _) => true,
            (Root::Resource, Some(Step::Attribute(name))) => {
                let declares = charter.model.kinds.iter().filter_map(|kind| kind.attribute(*name));
                declares.into_iter().all(|attribute| attribute.from == Source::Request)
            }
            _ => false,
        };
        if !asks && !when.paths.is_empty() && when.paths.iter().all(said) {
            let message = format!("the allow rule {:?} rests only on what the request says", rule.key);
            let finding = Finding::warning("rests-on-request", when.span(), message);
            findings.push(finding.help("ask for something the register knows too"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_password_in_the_context() {
        doubts(
            "rests-on-request",
            r#"
[[rule]]
key = "please"
effect = "allow"
permissions = ["vessel:moor"]
when = "context.zone == 'quay' and resource.load < 5"
#       ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^ the allow rule "please" rests only on what
[[rule]]
key = "agents"
effect = "allow"
permissions = ["vessel:moor"]
when = "context.zone == 'quay' and subject == resource.agent"
"#,
        );
    }
}
