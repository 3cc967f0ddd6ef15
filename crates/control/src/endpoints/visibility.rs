//! Which endpoints a caller knows of.

use std::sync::Arc;

/// The endpoints that a caller may call; to it, there are no others.
#[derive(Clone, Debug, Default)]
pub struct Visibility(Option<Arc<[String]>>);

impl Visibility {
    /// Returns that of a caller who may call these; all of them when none is named.
    pub fn of(endpoints: &[String]) -> Visibility {
        Visibility((!endpoints.is_empty()).then(|| endpoints.into()))
    }

    /// Returns that of a caller who may call all of them.
    pub fn all() -> Visibility {
        Visibility(None)
    }

    /// Returns whether there is an endpoint of this name to the caller, if there is one at all.
    pub fn has(&self, endpoint: &str) -> bool {
        self.0
            .as_ref()
            .is_none_or(|names| names.iter().any(|name| name == endpoint))
    }

    /// Returns whether there are endpoints that the caller may not know of.
    pub fn is_limited(&self) -> bool {
        self.0.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_is_limited_sees_what_is_named_and_nothing_like_it() {
        let some = Visibility::of(&["desk".into(), "a/b".into()]);
        assert!(some.has("desk") && some.has("a/b") && some.is_limited());
        for other in ["dock", "DESK", "desk ", "a", ""] {
            assert!(!some.has(other), "{other}");
        }
        let all = Visibility::of(&[]);
        assert!(all.has("dock") && !all.is_limited());
    }
}
