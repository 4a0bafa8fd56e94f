//! What is said of a store: in a spec's `[stores.NAME]`, with secrets from the environment.

use barrow_core::escape::is_a_variable;
use barrow_core::plan::StorePlan;

/// A variable of the environment, if it is set.
pub type Environment<'e> = &'e dyn Fn(&str) -> Option<String>;

/// The settings of a spec, with `${NAME}` filled in.
///
/// # Errors
/// A variable that is not set, in plain words.
pub fn filled(plan: &StorePlan, environment: Environment<'_>) -> Result<StorePlan, String> {
    let mut filled = plan.clone();
    let name = &plan.name;
    for (key, text) in [
        ("endpoint", &mut filled.endpoint),
        ("region", &mut filled.region),
        ("profile", &mut filled.profile),
        ("account", &mut filled.account),
        ("access_key", &mut filled.access_key),
        ("secret_key", &mut filled.secret_key),
        ("token", &mut filled.token),
        ("key_file", &mut filled.key_file),
    ] {
        if let Some(text) = text {
            let value = fill(text, environment);
            let value = value.map_err(|why| format!("[stores.{name}] {key}: {why}"))?;
            // Secrets that are mounted as files end with a line end.
            *text = value.trim().to_string();
            let is_plain = !text.chars().any(char::is_control);
            if !is_plain {
                return Err(format!(
                    "[stores.{name}] {key}: control characters cannot be sent"
                ));
            }
        }
    }
    Ok(filled)
}

/// What is never to be shown of a store's settings.
pub fn secrets(settings: &StorePlan) -> impl Iterator<Item = &str> {
    let all = [&settings.access_key, &settings.secret_key, &settings.token];
    all.into_iter().filter_map(|secret| secret.as_deref())
}

/// Fills in `${NAME}` from the environment.
fn fill(text: &str, environment: Environment<'_>) -> Result<String, String> {
    let mut filled = String::new();
    let mut rest = text;
    while let Some(start) = rest.find("${") {
        let Some(length) = rest[start..].find('}') else {
            return Err("a ${ has no } after it".into());
        };
        let name = &rest[start + 2..start + length];
        let value = environment(name);
        filled.push_str(&rest[..start]);
        let missing = || match is_a_variable(name) {
            true => format!("the environment has no {name}"),
            false => "the environment lacks the variable between ${ and }".to_string(),
        };
        filled.push_str(&value.ok_or_else(missing)?);
        rest = &rest[start + length + 1..];
    }
    filled.push_str(rest);
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn environment(name: &str) -> Option<String> {
        (name == "KEY").then(|| "hush".to_string())
    }

    #[test]
    fn secrets_come_from_the_environment_and_are_not_shown() {
        let plan = StorePlan {
            name: "market".into(),
            secret_key: Some("a${KEY}b".into()),
            ..StorePlan::default()
        };
        let settings = filled(&plan, &environment).unwrap();
        assert_eq!(settings.secret_key.as_deref(), Some("ahushb"));
        assert!(!format!("{settings:?}").contains("hush"));
        assert_eq!(secrets(&settings).collect::<Vec<_>>(), ["ahushb"]);
        let plan = StorePlan {
            token: Some("${NONE}".into()),
            ..plan
        };
        let error = filled(&plan, &environment).unwrap_err();
        assert_eq!(error, "[stores.market] token: the environment has no NONE");
    }

    #[test]
    fn names_stand_anywhere_in_a_text() {
        for (text, expected) in [
            ("", Ok("")),
            ("plain", Ok("plain")),
            ("${KEY}", Ok("hush")),
            ("${KEY}-${KEY}", Ok("hush-hush")),
            ("$KEY", Ok("$KEY")),
            ("${KEY", Err("a ${ has no } after it")),
            ("${}", Err("the environment has no ")),
        ] {
            let found = fill(text, &environment);
            assert_eq!(found.as_deref().map_err(String::as_str), expected, "{text}");
        }
    }
}
