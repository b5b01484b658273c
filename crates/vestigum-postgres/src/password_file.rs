//! Passwords in a file: one line for each place, `host:port:database:user:password`.

use std::path::Path;
use std::{fs, io};

/// Describes what a line must fit.
pub(crate) struct Wanted<'a> {
    pub host: &'a str,
    pub port: u16,
    pub database: &'a str,
    pub user: &'a str,
}

/// Returns the password of the first line that fits; none if no line does.
///
/// # Errors
/// If the file cannot be read, or others may read it: then it is not a place for a password.
pub(crate) fn password_in(file: &Path, wanted: &Wanted<'_>) -> io::Result<Option<String>> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        if fs::metadata(file)?.permissions().mode() & 0o077 != 0 {
            let why = "others may read it, so it is not used; let only its owner read it (mode 0600)";
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, why));
        }
    }
    Ok(fs::read_to_string(file)?.lines().find_map(|line| password_of(line, wanted)))
}

fn password_of(line: &str, wanted: &Wanted<'_>) -> Option<String> {
    if line.starts_with('#') {
        return None;
    }
    let mut parts = parts_of(line).into_iter();
    let port = wanted.port.to_string();
    for wanted in [wanted.host, &port, wanted.database, wanted.user] {
        let (part, escaped) = parts.next()?;
        if part != wanted && (part != "*" || escaped) {
            return None;
        }
    }
    parts.next().map(|(password, _)| password)
}

/// The parts between colons, each with whether something in it was escaped; the fifth is all that is left. A backslash takes the sign
/// behind it as it is.
fn parts_of(line: &str) -> Vec<(String, bool)> {
    let mut parts = vec![(String::new(), false)];
    let mut signs = line.chars();
    while let Some(sign) = signs.next() {
        let many = parts.len();
        let Some((part, escaped)) = parts.last_mut() else { break };
        match sign {
            '\\' => {
                part.extend(signs.next());
                *escaped = true;
            }
            ':' if many < 5 => parts.push((String::new(), false)),
            sign => part.push(sign),
        }
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_found_by_host_port_database_and_user() {
        let wanted = Wanted { host: "db.example", port: 5432, database: "fellpost", user: "ada" };
        let of = |line: &str| password_of(line, &wanted);
        assert_eq!(of("db.example:5432:fellpost:ada:a:b").as_deref(), Some("a:b"));
        assert_eq!(of(r"*:*:*:ada:one\:two\\").as_deref(), Some(r"one:two\"));
        assert_eq!(of("db.example:5432:fellpost:bo:secret"), None);
        assert_eq!(of(r"\*:*:*:ada:secret"), None);
        assert_eq!(of("# *:*:*:*:secret"), None);
        assert_eq!(of("db.example:5432"), None);
    }
}
