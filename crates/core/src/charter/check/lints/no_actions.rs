//! A type with no actions, which nothing lies within: nothing can ever be asked about it.

use super::*;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    for resource in charter.tree.resources.iter().filter(|resource| resource.actions.is_empty()) {
        let key = &resource.key.value;
        let is_place = |outer: &KindId| charter.key(*outer) == key;
        if !charter.model.kinds.iter().any(|kind| kind.within.iter().any(is_place)) {
            let message = format!("the type {key:?} has no actions");
            let finding = Finding::warning("no-actions", resource.key.span, message);
            findings.push(finding.help("declare what can be done to it, or take it out"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_type_that_is_no_place_either() {
        doubts(
            "no-actions",
            r#"
[resource.pier]
application = "quay"
within = "tenant"
actions = {}
[resource.rope]
#         ^^^^ the type "rope" has no actions
application = "quay"
within = "pier"
"#,
        );
    }
}
