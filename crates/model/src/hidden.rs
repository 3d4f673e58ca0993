use std::fmt;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use zeroize::Zeroize;

/// A text of a call that must not be seen. `Debug` prints a mask, and what it held is overwritten when it is dropped.
#[derive(Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(transparent)]
#[schema(value_type = String)]
pub struct Hidden(String);

impl Hidden {
    /// The text itself.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl From<String> for Hidden {
    fn from(text: String) -> Self {
        Self(text)
    }
}

impl Drop for Hidden {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl fmt::Debug for Hidden {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str("Hidden(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_hidden_is_never_printed() {
        let hidden = Hidden::from("wexcombe".to_owned());
        assert!(!format!("{hidden:?}").contains("wexcombe"));
        assert_eq!(serde_json::to_string(&hidden).unwrap(), "\"wexcombe\"");
    }
}
