//! Sealing: a check that only the game can make.
//!
//! Without a key, the check of an image tells damage from wholeness, and anyone who knows the format can make one. With
//! a key from the game it is a keyed BLAKE3 hash, so an image that was edited by hand, or made by another program, is
//! refused as tampered.
//!
//! What a seal does **not** stop: the key is inside the game, so whoever takes the program apart can find it; and an
//! older sealed image that is put back is whole, so it is taken. It keeps honest players honest, and no more is
//! promised.

use std::fmt;

/// The key with which a game seals its saves.
///
/// ```
/// use vestigum_core::image::json::ImageError;
/// use vestigum_core::image::seal::SealKey;
/// use vestigum_core::{Image, Progress, Spec};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"")?;
/// let image = Progress::fresh(&spec).suspend().profile_image("ada");
/// let key = SealKey::from_text("the lanterns of Cloud Pass");
/// let bytes = image.encoded().bytes(1, Some(&key));
/// assert!(Image::decode(&bytes, Some(&key)).is_ok());
/// assert_eq!(Image::decode(&bytes, Some(&SealKey::from_text("a guess"))), Err(ImageError::Tampered));
/// # Ok::<(), vestigum_core::Diagnostics>(())
/// ```
#[derive(Clone)]
pub struct SealKey {
    key: [u8; 32],
    takes_unsealed: bool,
}

impl SealKey {
    /// A key of 32 bytes.
    pub const fn new(key: [u8; 32]) -> SealKey {
        SealKey { key, takes_unsealed: false }
    }

    /// A key made from a text of any length.
    pub fn from_text(text: &str) -> SealKey {
        SealKey::new(blake3::derive_key("vestigum 2026 seal of saves", text.as_bytes()))
    }

    /// Makes the key of a game that was shipped without one: images that were never sealed are accepted too, and sealed
    /// when they are next saved. Anyone can make an image that was never sealed, so the seal guards nothing until a
    /// later update leaves this out.
    #[must_use]
    pub const fn or_unsealed(self) -> SealKey {
        SealKey { takes_unsealed: true, ..self }
    }

    /// Returns a text that is the same for equal keys, and from which the key cannot be found.
    pub fn fingerprint(&self) -> String {
        let hash = blake3::derive_key("vestigum 2026 fingerprint of a key", &self.key);
        format!("{}{}", &blake3::Hash::from_bytes(hash).to_hex()[..16], if self.takes_unsealed { "?" } else { "" })
    }

    pub(super) const fn bytes(&self) -> &[u8; 32] {
        &self.key
    }

    pub(super) const fn takes_unsealed(&self) -> bool {
        self.takes_unsealed
    }
}

/// The key itself is never shown.
impl fmt::Debug for SealKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("SealKey").field("takes_unsealed", &self.takes_unsealed).finish_non_exhaustive()
    }
}
