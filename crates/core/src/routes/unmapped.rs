//! What requests look like that no route takes: their ids are cut out, so that many requests are one pattern, and
//! no id is kept.

use super::{Path, Segment};
use crate::charter::model::{Model, Route};

/// Longest segment that is taken for a word.
const MAX_WORD: usize = 32;

/// A path with its ids cut out. What a route of the application has as text in that place is text; what it has a
/// parameter for is one; elsewhere a segment is a word if it is short and has nothing but letters, `-`, `_`
/// and `.` in it.
pub fn pattern_of(model: &Model, application: &str, path: &Path) -> String {
    let index = model.applications.iter().position(|one| one.key == application);
    let mut alike: Vec<&Route> =
        model.routes.iter().filter(|route| Some(route.application) == index).collect();
    let mut out = String::new();
    for (at, text) in path.segments().iter().enumerate() {
        let fits = |route: &&Route| match route.segments.get(at) {
            Some(Segment::Literal(literal)) => literal == text,
            Some(Segment::Parameter(parameter)) => parameter.value(text).is_some(),
            None => false,
        };
        alike.retain(fits);
        let is_literal = |route: &&Route| matches!(route.segments.get(at), Some(Segment::Literal(_)));
        let parameter = alike.iter().find_map(|route| route.segments.get(at).filter(|_| !is_literal(route)));
        out.push('/');
        match parameter {
            _ if alike.iter().any(is_literal) => out.push_str(text),
            Some(parameter) => out.push_str(&parameter.to_string()),
            None if is_word(text) => out.push_str(text),
            None => out.push_str("{id}"),
        }
    }
    out
}

fn is_word(text: &str) -> bool {
    text.len() <= MAX_WORD && text.bytes().all(|byte| byte.is_ascii_alphabetic() || b"-_.".contains(&byte))
}
