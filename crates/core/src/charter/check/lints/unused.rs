//! What is declared and never read: a group, or a key of the context.

use super::*;
use crate::source::Span;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let mut tell = |span: Span, message: String| {
        findings
            .push(Finding::warning("unused", span, message).help("read it in a condition, or take it out"));
    };
    let model = charter.model;
    for group in &charter.tree.groups {
        let key = &group.key.value;
        let named = charter.model.conditions().any(|condition| {
            condition
                .tests
                .iter()
                .any(|test| matches!(test, Test::Member(id) if model.groups[id.index()] == *key))
        });
        if !named {
            tell(group.key.span, format!("no condition names the group {key:?}"));
        }
    }
    for attribute in &charter.tree.context {
        let key = &attribute.key.value;
        let read = charter.model.conditions().any(|condition| {
            condition.paths.iter().any(|path| {
                matches!(path.root, Root::Context(at) if model.names.text(model.context[at].name.0) == key)
            })
        });
        if !read {
            tell(attribute.key.span, format!("no condition reads context.{key}"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn a_group_nobody_asks_for() {
        doubts("unused", "[group.night]\n#      ^^^^^ no condition names the group \"night\"\n");
    }
}
