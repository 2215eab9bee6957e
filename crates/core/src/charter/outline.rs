//! What a charter's text defines, by name and place: for completion, for what a name means, and for
//! where it is defined. Works on texts with mistakes too.

use super::syntax::{self, Attribute, Effect, Relation, Tree};
use crate::source::{At, Sources, Span};

/// One definition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Defined {
    /// `application`, `type`, `permission`, `attribute`, `relation`, `role`, `rule`, `condition`,
    /// `group`, `separation`, `issuer` or `affordance`.
    pub kind: &'static str,
    /// Its name as conditions and lists write it: `manifest:release`, `resource.hazard`.
    pub name: String,
    /// What it is, in a few words.
    pub words: String,
    /// Where its key stands.
    pub span: Span,
}

/// Everything a charter's files define, as far as they can be read. Costs one reading.
pub fn outline(sources: &Sources) -> Vec<Defined> {
    let tree = syntax::read(sources, &mut Vec::new());
    let mut found = Found(Vec::new());
    found.described(&tree);
    found.protected(&tree);
    found.given(&tree, sources);
    found.0
}

struct Found(Vec<Defined>);

impl Found {
    fn add(&mut self, kind: &'static str, name: impl Into<String>, words: String, key: &At<String>) {
        self.0.push(Defined { kind, name: name.into(), words, span: key.span });
    }

    fn described(&mut self, tree: &Tree) {
        for one in &tree.applications {
            self.add("application", one.key.value.as_str(), either(&one.description, &one.name), &one.key);
        }
        for one in &tree.subjects {
            self.properties("subject", &format!("of a {}", one.key.value), &one.attributes, &one.relations);
        }
        self.properties("resource.tenant", "of a tenant", &tree.tenant, &[]);
        self.properties("context", "sent along", &tree.context, &[]);
        for one in &tree.groups {
            self.add("group", one.key.value.as_str(), either(&one.name, &None), &one.key);
        }
    }

    fn protected(&mut self, tree: &Tree) {
        for one in &tree.resources {
            let within = list(&one.within);
            let lies = if within.is_empty() { "lies nowhere".to_owned() } else { format!("within {within}") };
            let name = one.name.as_ref().map_or(String::new(), |name| format!("{}, ", name.value));
            self.add("type", one.key.value.as_str(), format!("{name}{lies}"), &one.key);
            for (action, description) in &one.actions {
                let name = format!("{}:{}", one.key.value, action.value);
                self.add("permission", name, description.clone(), action);
            }
            self.properties("resource", &format!("of a {}", one.key.value), &one.attributes, &one.relations);
        }
    }

    fn given(&mut self, tree: &Tree, sources: &Sources) {
        for one in &tree.conditions {
            let words = one.when.as_ref().map_or(String::new(), |when| sources.text(when.span).to_owned());
            self.add("condition", one.key.value.as_str(), words, &one.key);
        }
        for one in &tree.roles {
            let mut words = either(&one.description, &one.name);
            for (what, names) in [("includes", &one.includes), ("gives", &one.permissions)] {
                if !names.is_empty() {
                    let gap = if words.is_empty() { "" } else { "; " };
                    words = format!("{words}{gap}{what} {}", list(names));
                }
            }
            self.add("role", one.key.value.as_str(), words, &one.key);
        }
        for one in &tree.rules {
            let effect = match one.effect.as_ref().map(|effect| effect.value) {
                Some(Effect::Deny) => "denies",
                Some(Effect::Allow) => "allows",
                None => "is about",
            };
            if let Some(key) = &one.key {
                self.add("rule", key.value.as_str(), format!("{effect} {}", list(&one.permissions)), key);
            }
        }
        for one in &tree.separations {
            if let Some(key) = &one.key {
                self.add(
                    "separation",
                    key.value.as_str(),
                    format!("nobody holds two of {}", list(&one.roles)),
                    key,
                );
            }
        }
        for one in &tree.issuers {
            self.add("issuer", one.key.value.as_str(), either(&one.name, &None), &one.key);
        }
        for one in &tree.affordances {
            if let Some(key) = &one.key {
                self.add("affordance", key.value.as_str(), either(&one.name, &one.visible), key);
            }
        }
    }

    fn properties(&mut self, root: &str, whose: &str, attributes: &[Attribute], relations: &[Relation]) {
        for one in attributes {
            let many = if one.many { "a list of " } else { "" };
            let kind = one.kind.as_ref().map_or(String::new(), |kind| kind.value.to_string());
            let name = format!("{root}.{}", one.key.value);
            self.add("attribute", name, format!("{many}{kind}, {whose}"), &one.key);
        }
        for one in relations {
            let many = if one.many { "any number of " } else { "" };
            let name = format!("{root}.{}", one.key.value);
            self.add("relation", name, format!("{many}{}, {whose}", list(&one.to)), &one.key);
        }
    }
}

fn either(first: &Option<At<String>>, second: &Option<At<String>>) -> String {
    first.as_ref().or(second.as_ref()).map_or(String::new(), |text| text.value.clone())
}

fn list(names: &[At<String>]) -> String {
    names.iter().map(|name| name.value.as_str()).collect::<Vec<_>>().join(", ")
}
