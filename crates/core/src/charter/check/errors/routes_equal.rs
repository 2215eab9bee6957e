//! Two routes that match the same requests, neither before the other.

use crate::source::Finding;
use crate::source::Span;

/// `first` is where the other stands.
pub fn told(span: Span, method: &str, path: &str, first: Span) -> Finding {
    let message = format!("two routes match {method} {path} equally");
    Finding::error("routes-equal", span, message).beside(first, "the first of them")
}

#[cfg(test)]
mod tests {
    use crate::charter::check::testing::refuses;

    #[test]
    fn the_same_path_with_another_parameter() {
        refuses(
            "routes-equal",
            r#"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/{vessel}"
needs = ["vessel:view"]
resource = "vessel:{vessel}"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/{id}"
#      ^^^^^^^^^^^^^^^ two routes match GET /vessels/{id} equally
needs = ["vessel:view"]
resource = "vessel:{id}"
[[route]]
application = "quay"
method = "GET"
path = "/vessels/new"
needs = ["vessel:view"]
resource = { any = "vessel" }
"#,
        );
    }
}
