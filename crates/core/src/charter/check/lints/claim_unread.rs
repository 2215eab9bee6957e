//! A claim that vouches for what nothing reads.

use super::*;
use crate::charter::model::Attribute;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    let paths = || model.conditions().flat_map(|condition| &condition.paths);
    let is = |attribute: &Attribute, name: &str| model.names.text(attribute.name.0) == name;
    for issuer in &charter.tree.issuers {
        for (key, _) in &issuer.attributes {
            let kinds = [KindId::USER, KindId::SERVICE].map(|kind| &model.kinds[kind.index()]);
            let all = kinds.iter().flat_map(|kind| &kind.attributes);
            let declared: Vec<&Attribute> = all.filter(|attribute| is(attribute, &key.value)).collect();
            let Some(first) = declared.first() else { continue };
            let read = paths().any(|path| path.steps.contains(&Step::Attribute(first.name)));
            let why = if declared.iter().all(|attribute| !attribute.from.reads_request()) {
                "it is read from the register only"
            } else if read {
                continue;
            } else {
                "nothing reads it"
            };
            findings.push(told(key, why, "declare it with from = \"register-or-token\" or \"token\", and read it; or take the line out"));
        }
        for (key, _) in &issuer.context {
            let at = model.context.iter().position(|attribute| is(attribute, &key.value));
            let read = at.is_some_and(|at| paths().any(|path| path.root == Root::Context(at)));
            if !read {
                findings.push(told(
                    key,
                    "nothing reads it",
                    "read context.… in a condition, or take the line out",
                ));
            }
        }
    }
}

fn told(key: &crate::source::At<String>, why: &str, help: &str) -> Finding {
    let message = format!("a token vouches for {:?}, and {why}", key.value);
    Finding::warning("claim-unread", key.span, message).help(help)
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_claim_for_nothing() {
        doubts(
            "claim-unread",
            r#"
[subject.service.attributes]
post = { type = "text", from = "token" }
[[rule]]
key = "high"
effect = "allow"
permissions = ["vessel:moor"]
when = "subject.rank > 3 and subject == resource.agent"
[issuer.port]
applications = ["quay"]
services = { claim = "kind", is = "machine" }
attributes = { post = "position", rank = "rank" }
#              ^^^^ a token vouches for "post", and nothing reads it
#                                 ^^^^ a token vouches for "rank", and it is read from the register only
context = { zone = "zone" }
"#,
        );
    }
}
