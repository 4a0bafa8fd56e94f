//! What is said of a store: in a spec's `[stores.NAME]`, and by the environment.

use std::time::Duration;

use barrow_core::plan::StorePlan;

/// A variable of the environment, if it is set.
pub type Environment<'e> = &'e dyn Fn(&str) -> Option<String>;

/// A store's settings, secrets filled in.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct StoreSettings {
    /// The service's address; the cloud's own unless said.
    pub endpoint: Option<String>,
    /// The region.
    pub region: Option<String>,
    /// Whether the bucket stands in the path of requests, and not in the host's name.
    pub path_style: Option<bool>,
    /// Whether requests may go without encryption.
    pub allow_http: bool,
    /// Whether requests go unsigned.
    pub anonymous: bool,
    /// A profile of the shared profile files.
    pub profile: Option<String>,
    /// The account (Azure), or the user (web).
    pub account: Option<String>,
    /// The id of the key.
    pub access_key: Option<String>,
    /// The secret of the key, the account's key (Azure), or the password (web).
    pub secret_key: Option<String>,
    /// The token of a session, or of a bearer (web).
    pub token: Option<String>,
    /// A file with a service account's key (Google).
    pub key_file: Option<String>,
    /// How long a request that fails is tried again.
    pub give_up_after: Option<Duration>,
}

impl std::fmt::Debug for StoreSettings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // Never a secret.
        f.debug_struct("StoreSettings")
            .field("endpoint", &self.endpoint)
            .field("region", &self.region)
            .finish_non_exhaustive()
    }
}

impl StoreSettings {
    /// The settings of a spec, with `${NAME}` filled in.
    ///
    /// # Errors
    /// A variable that is not set, in plain words.
    pub fn of_plan(plan: &StorePlan, environment: Environment<'_>) -> Result<Self, String> {
        let filled = |key: &str, text: &Option<String>| match text {
            None => Ok(None),
            Some(text) => fill(text, environment)
                .map(Some)
                .map_err(|why| format!("[stores.{}] {key}: {why}", plan.name)),
        };
        Ok(StoreSettings {
            endpoint: filled("endpoint", &plan.endpoint)?,
            region: filled("region", &plan.region)?,
            path_style: plan.path_style,
            allow_http: plan.allow_http,
            anonymous: plan.anonymous,
            profile: filled("profile", &plan.profile)?,
            account: filled("account", &plan.account)?,
            access_key: filled("access_key", &plan.access_key)?,
            secret_key: filled("secret_key", &plan.secret_key)?,
            token: filled("token", &plan.token)?,
            key_file: filled("key_file", &plan.key_file)?,
            give_up_after: plan.give_up_after,
        })
    }
}

impl StoreSettings {
    /// What is never to be shown.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        let all = [&self.access_key, &self.secret_key, &self.token];
        all.into_iter().filter_map(|secret| secret.as_deref())
    }
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
        filled.push_str(&value.ok_or_else(|| format!("the environment has no {name}"))?);
        rest = &rest[start + length + 1..];
    }
    filled.push_str(rest);
    Ok(filled)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_come_from_the_environment_and_are_not_shown() {
        let environment = |name: &str| (name == "KEY").then(|| "hush".to_string());
        let plan = StorePlan {
            name: "market".into(),
            secret_key: Some("a${KEY}b".into()),
            ..StorePlan::default()
        };
        let settings = StoreSettings::of_plan(&plan, &environment).unwrap();
        assert_eq!(settings.secret_key.as_deref(), Some("ahushb"));
        assert!(!format!("{settings:?}").contains("hush"));
        let plan = StorePlan {
            token: Some("${NONE}".into()),
            ..plan
        };
        let error = StoreSettings::of_plan(&plan, &environment).unwrap_err();
        assert_eq!(error, "[stores.market] token: the environment has no NONE");
    }
}
