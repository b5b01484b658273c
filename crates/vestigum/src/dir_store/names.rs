//! The names of folders and files below a save folder.

use crate::store::{StoreError, checked_profile};

/// The highest generation that a file can have: JSON tools read numbers up to it exactly. A higher number in a name is
/// not of this store.
pub(super) const LAST_GENERATION: u64 = (1 << 53) - 1;

/// The beginning of the names of files that are being written.
pub(super) const TEMPORARY: &str = ".saving-";

/// A longer folder name is replaced by a hash: file systems take 255 bytes, and some that encrypt take 143.
const LONGEST: usize = 100;

/// The beginning of the names of folders that are named by a hash. No escaped name has it.
const HASHED: char = '~';

/// The generation in the name of a file, if it is a name that this store gives: digits without leading zeros, up to
/// [`LAST_GENERATION`].
pub(super) fn generation_of(name: &str) -> Option<u64> {
    let digits = name.strip_suffix(".json")?;
    let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) && !digits.starts_with('0');
    digits.parse().ok().filter(|generation| plain && *generation <= LAST_GENERATION)
}

/// A profile's name as a folder name: lower-case letters, digits, `-` and `_` stand for themselves, every other byte is
/// written as `%` and two hex digits, and so is the first letter of a name that a system keeps for itself. So no name
/// leaves the folder, and no two names meet on a file system that does not tell upper from lower case. What is too long
/// for a file system is named by its hash; the images inside say whose they are.
pub(crate) fn folder_name(name: &str) -> Result<String, StoreError> {
    checked_profile(name)?;
    let mut out = String::new();
    for (index, byte) in name.bytes().enumerate() {
        match byte {
            b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' if index > 0 || !is_reserved(name) => out.push(char::from(byte)),
            other => out.push_str(&format!("%{other:02x}")),
        }
    }
    if out.len() > LONGEST {
        let hash = blake3::hash(name.as_bytes()).to_hex();
        return Ok(format!("{HASHED}{}", &hash[..40]));
    }
    Ok(out)
}

/// Names of devices on some systems, which no file or folder there can have.
fn is_reserved(name: &str) -> bool {
    let numbered = |word: &str| name.strip_prefix(word).is_some_and(|rest| matches!(rest.as_bytes(), [b'0'..=b'9']));
    matches!(name, "con" | "prn" | "aux" | "nul") || numbered("com") || numbered("lpt")
}

/// Returns whether a folder is named by a hash, so that only what is inside tells whose it is.
pub(super) fn is_hashed(folder: &str) -> bool {
    folder.starts_with(HASHED)
}

/// The profile whose folder has that name, if the name tells.
pub(super) fn profile_of(folder: &str) -> Option<String> {
    let mut bytes = Vec::new();
    let mut rest = folder.bytes();
    while let Some(byte) = rest.next() {
        bytes.push(match byte {
            b'%' => {
                let digits = [rest.next()?, rest.next()?];
                u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?
            }
            plain => plain,
        });
    }
    String::from_utf8(bytes).ok().filter(|name| folder_name(name).is_ok_and(|made| made == folder))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_never_leave_the_folder() {
        assert_eq!(folder_name("ada_2").unwrap(), "ada_2");
        assert_eq!(folder_name("../Ada").unwrap(), "%2e%2e%2f%41da");
        assert!(folder_name("").is_err() && folder_name(&"x".repeat(61)).is_err());
        for name in ["ada_2", "../Ada", "ü %", "con", "com7", "com", "conrad", "~ada"] {
            assert_eq!(profile_of(&folder_name(name).unwrap()).as_deref(), Some(name));
        }
        assert_eq!((folder_name("con").unwrap(), folder_name("lpt9").unwrap()), ("%63on".into(), "%6cpt9".into()));
        assert_eq!(profile_of("Ada"), None);
        assert_eq!(profile_of("con"), None);
    }

    #[test]
    fn names_of_any_script_fit_every_file_system() {
        for name in ["郵".repeat(60), "é".repeat(60), "🕯".repeat(60), "A".repeat(60)] {
            let folder = folder_name(&name).unwrap();
            assert!(folder.len() <= LONGEST && is_hashed(&folder) && folder.is_ascii(), "{folder}");
        }
        assert_ne!(folder_name(&"郵".repeat(60)).unwrap(), folder_name(&"郵".repeat(59)).unwrap());
    }

    #[test]
    fn only_names_that_this_store_gives_are_generations() {
        assert_eq!(generation_of("12.json"), Some(12));
        assert_eq!(generation_of("9007199254740991.json"), Some(LAST_GENERATION));
        let foreign = ["012.json", "0.json", ".saving-1.json", "9007199254740992.json", "18446744073709551615.json"];
        for name in foreign.into_iter().chain(["+1.json", "1.JSON", "99999999999999999999999.json"]) {
            assert_eq!(generation_of(name), None, "{name}");
        }
    }
}
