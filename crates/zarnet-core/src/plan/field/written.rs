//! The value of a key as text, to compare what two plans say.

use crate::plan::Placed;

/// What a member of a draft says; `None` where it is left out.
pub(super) trait Written {
    fn text(&self) -> Option<String>;
}

impl Written for Placed<String> {
    fn text(&self) -> Option<String> {
        Some(self.value.clone())
    }
}

impl Written for Placed<bool> {
    fn text(&self) -> Option<String> {
        Some(self.value.to_string())
    }
}

impl Written for Placed<i64> {
    fn text(&self) -> Option<String> {
        Some(self.value.to_string())
    }
}

impl<T: Written> Written for Vec<T> {
    fn text(&self) -> Option<String> {
        let texts: Vec<String> = self.iter().filter_map(Written::text).collect();
        (!texts.is_empty()).then(|| texts.join(", "))
    }
}

impl<T: Written> Written for Option<T> {
    fn text(&self) -> Option<String> {
        self.as_ref()?.text()
    }
}
