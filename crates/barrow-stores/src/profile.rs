//! The shared profile files of the S3 world: `~/.aws/credentials` and `~/.aws/config`
//! (AWS SDKs and Tools Reference Guide, "Shared config and credentials files").

use std::collections::HashMap;
use std::path::PathBuf;

use barrow_core::escape::escape_for_display;
use barrow_core::plan::StorePlan;
use configparser::ini::Ini;

use crate::settings::Environment;

/// The values of a section, by key; none where a line has no `=`.
type Section = HashMap<String, Option<String>>;

/// A file's sections, by name.
type Sections = HashMap<String, Section>;

/// What a profile says that the settings leave open. The profile is the settings', or the
/// environment's (`AWS_PROFILE`), or `default`.
///
/// # Errors
/// A profile that is named and not there, a file that cannot be read, a way to keys that is
/// not known here; in plain words.
pub fn add(settings: &mut StorePlan, environment: Environment<'_>) -> Result<(), String> {
    let named = settings
        .profile
        .clone()
        .or_else(|| environment("AWS_PROFILE"));
    let name = named.as_deref().unwrap_or("default");
    let keys = read(environment, "AWS_SHARED_CREDENTIALS_FILE", "credentials")?;
    let config = read(environment, "AWS_CONFIG_FILE", "config")?;
    let section = match name {
        "default" => name.to_string(),
        name => format!("profile {name}"),
    };
    let keys = keys.as_ref().and_then(|file| file.get(name));
    let config = config.as_ref().and_then(|file| file.get(&section));
    if keys.is_none() && config.is_none() {
        return match named {
            Some(name) => Err(format!("the shared profile files have no profile {name}")),
            None => Ok(()),
        };
    }
    let value = |key: &str| {
        let of = |section: Option<&Section>| section?.get(key)?.clone();
        of(keys).or_else(|| of(config))
    };
    if settings.access_key.is_none() {
        settings.access_key = value("aws_access_key_id");
        settings.secret_key = value("aws_secret_access_key");
        settings.token = value("aws_session_token");
    }
    settings.region = settings.region.take().or_else(|| value("region"));
    settings.endpoint = settings.endpoint.take().or_else(|| value("endpoint_url"));
    let other_ways = [
        "role_arn",
        "sso_session",
        "sso_start_url",
        "credential_process",
    ];
    match other_ways.into_iter().find(|way| value(way).is_some()) {
        Some(way) if settings.access_key.is_none() => Err(format!(
            "profile {name} gets its keys by {way}, which is not done here: put keys into the \
             environment (AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY, AWS_SESSION_TOKEN)"
        )),
        _ => Ok(()),
    }
}

fn read(
    environment: Environment<'_>,
    variable: &str,
    name: &str,
) -> Result<Option<Sections>, String> {
    let own = || Some(PathBuf::from(environment("HOME")?).join(".aws").join(name));
    let Some(path) = environment(variable).map(PathBuf::from).or_else(own) else {
        return Ok(None);
    };
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    // A line that is indented belongs to the value above it; `#` and `;` may be part of one.
    let mut file = Ini::new_cs();
    file.set_multiline(true);
    file.set_inline_comment_symbols(Some(&[]));
    let unread = |line: &str| {
        format!(
            "{} cannot be read: {line} is not understood",
            path.display()
        )
    };
    // The text of a line may be a key, and is not shown.
    let sections = file
        .read(text)
        .map_err(|error| unread(error.split(':').next().unwrap_or("a line")))?;
    let bare = sections
        .iter()
        .filter(|(_, values)| values.values().any(Option::is_none));
    match bare.map(|(name, _)| name).min() {
        Some(name) => {
            let name = escape_for_display(name.as_bytes());
            Err(unread(&format!("a line of [{name}]")))
        }
        None => Ok(Some(sections)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn with(name: Option<&str>) -> Result<StorePlan, String> {
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join(".aws");
        std::fs::create_dir(&folder).unwrap();
        let keys = "[default]\naws_access_key_id = A\naws_secret_access_key = a/b+c=\n\n\
            [market]\naws_access_key_id=M\naws_secret_access_key=m\naws_session_token=t\n";
        let config = "[default]\nregion = eu-west-1\n[profile market]\nregion = north\n\
            # Nothing of what is indented is the profile's own.\n\
            s3 =\n  region = south\n  addressing_style = path\n\
            endpoint_url = http://127.0.0.1:9000\n[profile far]\nrole_arn = r\n";
        std::fs::write(folder.join("credentials"), keys).unwrap();
        std::fs::write(folder.join("config"), config).unwrap();
        let environment = |key: &str| match key {
            "HOME" => Some(home.path().display().to_string()),
            "AWS_PROFILE" => name.map(str::to_string),
            _ => None,
        };
        let mut settings = StorePlan::default();
        add(&mut settings, &environment)?;
        Ok(settings)
    }

    #[test]
    fn a_profile_gives_its_keys_region_and_endpoint() {
        let own = with(None).unwrap();
        assert_eq!(own.access_key.as_deref(), Some("A"));
        assert_eq!(own.secret_key.as_deref(), Some("a/b+c="));
        assert_eq!(own.region.as_deref(), Some("eu-west-1"));
        let market = with(Some("market")).unwrap();
        assert_eq!(market.access_key.as_deref(), Some("M"));
        assert_eq!(market.token.as_deref(), Some("t"));
        assert_eq!(market.endpoint.as_deref(), Some("http://127.0.0.1:9000"));
    }

    #[test]
    fn a_profile_that_is_not_there_or_not_understood_says_so() {
        assert!(with(Some("none")).unwrap_err().contains("no profile none"));
        assert!(with(Some("far")).unwrap_err().contains("role_arn"));
    }

    #[test]
    fn a_line_that_is_not_understood_is_told_and_not_shown() {
        for (text, told) in [
            (
                "[default]\naws_secret_access_key a/b+c\n",
                "a line of [default]",
            ),
            ("[default]\n[market\nregion = a/b+c\n", "line 2"),
            ("[default]\n= a/b+c\n", "line 2"),
        ] {
            let home = tempfile::tempdir().unwrap();
            let path = home.path().join("keys");
            std::fs::write(&path, text).unwrap();
            let environment = |key: &str| match key {
                "AWS_SHARED_CREDENTIALS_FILE" => Some(path.display().to_string()),
                _ => None,
            };
            let error = add(&mut StorePlan::default(), &environment).unwrap_err();
            assert!(error.contains(told) && !error.contains("a/b+c"), "{error}");
        }
    }
}
