//! The nearest known name to one that is not known.

/// The candidate most like `name`, if any is like enough to be meant.
///
/// Case and the separators people mix up (`-`, `_`, blanks) do not count.
pub fn nearest<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = folded(name);
    candidates
        .into_iter()
        .map(|c| (strsim::jaro_winkler(&wanted, &folded(c)), c))
        .filter(|(score, _)| *score >= 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, c)| c)
}

/// Advice that names the nearest candidate.
pub fn did_you_mean<'a>(
    name: &str,
    candidates: impl IntoIterator<Item = &'a str>,
) -> Option<String> {
    nearest(name, candidates).map(|n| format!("the nearest known name is \"{n}\""))
}

fn folded(name: &str) -> String {
    name.chars()
        .filter(|c| !matches!(c, '-' | '_' | ' '))
        .flat_map(char::to_lowercase)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_of_the_hand_finds_its_name() {
        let known = ["delimiter", "quote", "escape"];
        assert_eq!(nearest("delimeter", known), Some("delimiter"));
        assert_eq!(nearest("QUOTE", known), Some("quote"));
    }

    #[test]
    fn nothing_alike_finds_nothing() {
        assert_eq!(nearest("zebra", ["delimiter", "quote"]), None);
    }
}
