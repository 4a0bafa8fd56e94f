//! The password file ("The Password File", section 34.16 of the server's manual):
//! lines of host:port:database:user:password, where * stands for any, and a backslash
//! makes a colon or a backslash ordinary.

use std::path::PathBuf;

/// The password for these, if the file has one. A file that others may read is not
/// used, as the manual has it.
pub fn password(host: &str, port: u16, database: &str, user: &str) -> Option<String> {
    let path = path()?;
    if is_open_to_others(&path) {
        return None;
    }
    let text = std::fs::read_to_string(path).ok()?;
    let host = if host.starts_with('/') {
        "localhost"
    } else {
        host
    };
    find(&text, [host, &port.to_string(), database, user])
}

fn path() -> Option<PathBuf> {
    Some(match std::env::var_os("PGPASSFILE") {
        Some(path) => PathBuf::from(path),
        None => PathBuf::from(std::env::var_os("HOME")?).join(".pgpass"),
    })
}

/// The file, where it is ignored because others may read it.
pub fn passed_over() -> Option<PathBuf> {
    path().filter(|path| is_open_to_others(path))
}

#[cfg(unix)]
fn is_open_to_others(path: &std::path::Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    path.metadata()
        .is_ok_and(|found| found.permissions().mode() & 0o077 != 0)
}

#[cfg(not(unix))]
fn is_open_to_others(_: &std::path::Path) -> bool {
    false
}

fn find(text: &str, wanted: [&str; 4]) -> Option<String> {
    let lines = text.lines().filter(|line| !line.starts_with('#'));
    lines.map(parts).find_map(|parts| {
        let [host, port, database, user, password] = parts.try_into().ok()?;
        let found = [&host, &port, &database, &user];
        let fits = found
            .iter()
            .zip(wanted)
            .all(|(part, wanted)| *part == "*" || *part == wanted);
        fits.then_some(password)
    })
}

fn parts(line: &str) -> Vec<String> {
    let mut parts = vec![String::new()];
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => parts
                .last_mut()
                .into_iter()
                .for_each(|part| part.extend(chars.next())),
            ':' if parts.len() < 5 => parts.push(String::new()),
            c => parts.last_mut().into_iter().for_each(|part| part.push(c)),
        }
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    #[cfg(unix)]
    #[test]
    fn a_file_that_others_may_read_is_told_from_one_that_is_ours() {
        use std::os::unix::fs::PermissionsExt;
        let path = std::env::temp_dir().join(format!("barrow-pass-{}", std::process::id()));
        std::fs::write(&path, "*:*:*:*:crumbs\n").unwrap();
        for (mode, is_open) in [(0o600, false), (0o640, true), (0o604, true)] {
            let permissions = std::fs::Permissions::from_mode(mode);
            std::fs::set_permissions(&path, permissions).unwrap();
            assert_eq!(is_open_to_others(&path), is_open, "{mode:o}");
        }
        std::fs::remove_file(&path).unwrap();
    }

    #[test]
    fn the_first_line_that_fits_has_the_password() {
        let text = "# ours\ndb:5432:market:ann:one\n*:*:market:*:t\\:wo\\\\:x\n";
        assert_eq!(
            find(text, ["db", "5432", "market", "ann"]).as_deref(),
            Some("one")
        );
        assert_eq!(
            find(text, ["db", "1", "market", "ann"]).as_deref(),
            Some("t:wo\\:x")
        );
        assert_eq!(find(text, ["db", "1", "other", "ann"]), None);
    }
}
