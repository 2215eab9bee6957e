//! What is given to anyone, signed in or not, and by a role to those who hold it: one of the two is needless,
//! or was not meant.

use super::*;
use crate::charter::syntax::GivenTo;

pub fn look(charter: &Charter<'_>, findings: &mut Vec<Finding>) {
    let model = charter.model;
    for open in &model.roles {
        let written = charter.tree.roles.iter().find(|role| role.key.value == open.key);
        let given = written.and_then(|role| role.given_to.as_ref());
        let Some(place) = given.filter(|given| given.value == GivenTo::Anyone) else { continue };
        if open.when.is_some() {
            continue;
        }
        let beside = model.roles.iter().find_map(|role| {
            let both = role.permissions.iter().find(|one| open.permissions.contains(one))?;
            (role.key != open.key && role.given_to.is_none()).then_some((role, both))
        });
        if let Some((role, permission)) = beside {
            let permission = &model.permissions[permission.index()].text;
            let message = format!(
                "this gives {permission} to anyone, signed in or not, and {:?} gives it to those who hold that",
                role.key
            );
            let finding =
                Finding::warning("anyone-beside", place.span, message).beside(role.span, "the other");
            findings.push(finding.help("take it out of the one that is not meant"));
        }
    }
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::doubts;

    #[test]
    fn an_open_door_beside_a_key() {
        doubts(
            "anyone-beside",
            r#"
[role.passer-by]
given-to = "anyone"
#          ^^^^^^^^ this gives vessel:view to anyone, signed in or not, and "hand" gives it
permissions = ["vessel:view"]
[role.member]
given-to = "members"
permissions = ["vessel:view"]
"#,
        );
    }
}
