//! Bytes that would better be kept beside the image.

use vestigum_core::{Diagnostic, Type};
use vestigum_spec::codes;

use super::warnings::Declared;

/// 64 KiB in every save are more than a game should write again and again.
const HEAVY: usize = 64 << 10;

impl Declared<'_> {
    /// Bytes that every save writes again, though they seldom change.
    pub(super) fn heavy_bytes(&self) -> Option<Diagnostic> {
        let field = self.field;
        let most = field.limits.max_len.saturating_mul(field.slots);
        if field.ty != Type::Bytes || field.is_blob() || !field.lasts.is_saved() || most <= HEAVY {
            return None;
        }
        let name = &field.name;
        let span = self.entry.ty.as_ref().map_or_else(|| self.name_span(), |word| word.span);
        let message = format!("every save writes `{name}` again, up to {most} bytes");
        let warning = Diagnostic::warning(codes::HEAVY_BYTES, span, message);
        Some(warning.help(
            "write `type = \"blob\"`: then a save writes it when it has changed, and saves that are there still load",
        ))
    }
}
