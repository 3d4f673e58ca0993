//! The processes that decode and encode: this program, begun with a word of its own.

use waverant_codec::Workplace;

/// The word that makes this program a helper.
pub const HELPER: &str = "helper";

/// Native code for pictures and sound runs there.
pub(crate) fn helpers() -> Workplace {
    Workplace::this_program([HELPER.into()])
}
