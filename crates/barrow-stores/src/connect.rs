//! From a bucket and its settings to a client.

use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;

use barrow_core::escape::escape_for_display;
use barrow_core::plan::StorePlan;
use object_store::aws::{AmazonS3Builder, AmazonS3ConfigKey};
use object_store::azure::{AzureConfigKey, MicrosoftAzureBuilder};
use object_store::gcp::{GoogleCloudStorageBuilder, GoogleConfigKey};
use object_store::list::PaginatedListStore;
use object_store::{ObjectStore, RetryConfig};

use crate::address::Scheme;
use crate::fault::Fault;
use crate::patience::Patience;
use crate::profile;
use crate::settings::Environment;
use crate::transport::Connector;

/// A client of one bucket.
#[derive(Clone)]
pub struct Client {
    /// For objects.
    pub objects: Arc<dyn ObjectStore>,
    /// For listings by any beginning of a key.
    pub listings: Arc<dyn PaginatedListStore>,
    /// How long requests are tried again.
    pub patience: Patience,
}

/// Makes the client of a bucket.
///
/// # Errors
/// Settings that do not go together, or no way to a key.
pub fn connect(
    scheme: Scheme,
    bucket: &str,
    mut settings: StorePlan,
    environment: Environment<'_>,
) -> Result<Client, Fault> {
    is_a_bucket(bucket)?;
    match scheme {
        Scheme::S3 => can_be_sent(
            "AWS_",
            |key| {
                matches!(
                    key,
                    AmazonS3ConfigKey::Endpoint | AmazonS3ConfigKey::S3Endpoint
                )
            },
            environment,
        ),
        Scheme::Gs => can_be_sent(
            "GOOGLE_",
            |key| matches!(key, GoogleConfigKey::BaseUrl),
            environment,
        ),
        Scheme::Az => can_be_sent(
            "AZURE_",
            |key| matches!(key, AzureConfigKey::Endpoint),
            environment,
        ),
        Scheme::Web => Ok(()),
    }?;
    let patience = Patience::new(settings.give_up_after);
    let is_set = |name: &str| environment(name).is_some_and(|value| !value.is_empty());
    if scheme == Scheme::S3 && !settings.anonymous && settings.access_key.is_none() {
        let has_keys = is_set("AWS_ACCESS_KEY_ID");
        if settings.profile.is_some() || !has_keys {
            profile::add(&mut settings, environment).map_err(Fault::Other)?;
        }
    }
    if let Some(endpoint) = &settings.endpoint {
        is_an_endpoint(endpoint)?;
    }
    let says_so = |name: &str| environment(name).is_some_and(|v| v.eq_ignore_ascii_case("true"));
    let allows = [
        "AWS_ALLOW_HTTP",
        "AZURE_ALLOW_HTTP",
        "AZURE_STORAGE_ALLOW_HTTP",
        "GOOGLE_ALLOW_HTTP",
    ];
    let connector = Connector {
        patience,
        allow_http: settings.allow_http || allows.into_iter().any(says_so),
    };
    // The transport tries again itself.
    let once = RetryConfig {
        max_retries: 0,
        retry_timeout: Duration::ZERO,
        ..RetryConfig::default()
    };
    let made = match scheme {
        Scheme::S3 => s3(bucket, &settings, connector, once),
        Scheme::Gs => gs(bucket, &settings, connector, once),
        Scheme::Az => az(bucket, &settings, connector, once),
        Scheme::Web => return Err(Fault::Other("a web server has no buckets".into())),
    };
    let (objects, listings) = made.map_err(|error| match error.to_string() {
        says if says.contains("Account must be specified") => Fault::Other(
            "its account is not known: set AZURE_STORAGE_ACCOUNT_NAME, or say account under \
             [stores.NAME]"
                .into(),
        ),
        _ => Fault::of_store(&error),
    })?;
    Ok(Client {
        objects,
        listings,
        patience,
    })
}

/// Whether there can be a bucket or container of that name, as far as its characters tell:
/// containers may be `$root` and `$web`, and names of access points have colons.
fn is_a_bucket(name: &str) -> Result<(), Fault> {
    let is_known = |c: char| c.is_ascii_alphanumeric() || "._-$:@".contains(c);
    match name.chars().all(is_known) {
        true => Ok(()),
        false => Err(Fault::Other(format!(
            "no bucket can be called \"{}\"",
            escape_for_display(name.as_bytes())
        ))),
    }
}

/// Whether it is the address of a service.
fn is_an_endpoint(endpoint: &str) -> Result<(), Fault> {
    let address = url::Url::parse(endpoint).ok();
    let is_web = |url: &url::Url| ["http", "https"].contains(&url.scheme()) && url.has_host();
    match address.as_ref().is_some_and(is_web) {
        true => Ok(()),
        false => Err(Fault::Other(
            "its endpoint is not the address of a service: it begins with https:// or http://"
                .into(),
        )),
    }
}

/// Whether requests can carry what the environment says of a kind of store: only the variables
/// that its client takes are looked at.
fn can_be_sent<K: FromStr>(
    prefix: &str,
    is_address: impl Fn(&K) -> bool,
    environment: Environment<'_>,
) -> Result<(), Fault> {
    let names = std::env::vars_os().filter_map(|(name, _)| name.into_string().ok());
    for name in names.filter(|name| name.starts_with(prefix)) {
        let Ok(key) = name.to_ascii_lowercase().parse::<K>() else {
            continue;
        };
        let value = environment(&name).unwrap_or_default();
        let value = value.trim();
        if value.chars().any(char::is_control) {
            let says = format!("{name} has control characters, which cannot be sent");
            return Err(Fault::Other(says));
        }
        if is_address(&key) && !value.is_empty() {
            is_an_endpoint(value)?;
        }
    }
    Ok(())
}

type Made = object_store::Result<(Arc<dyn ObjectStore>, Arc<dyn PaginatedListStore>)>;

/// The two sides of one client.
macro_rules! sides {
    ($store:expr) => {{
        let store = Arc::new($store);
        Ok((store.clone() as _, store as _))
    }};
}

/// Takes from the environment what has names there; a name that means nothing is ignored.
macro_rules! from_environment {
    ($builder:expr, $keys:ty, $prefix:literal) => {{
        let mut builder = $builder;
        for (name, value) in std::env::vars_os() {
            let (Some(name), Some(value)) = (name.to_str(), value.to_str()) else {
                continue;
            };
            // Secrets that are mounted as files end with a line end.
            let value = value.trim();
            if let Ok(key) = name.to_ascii_lowercase().parse::<$keys>()
                && name.starts_with($prefix)
                && !value.is_empty()
            {
                builder = builder.with_config(key, value);
            }
        }
        builder
    }};
}

fn s3(bucket: &str, settings: &StorePlan, connector: Connector, once: RetryConfig) -> Made {
    let mut builder = from_environment!(AmazonS3Builder::new(), AmazonS3ConfigKey, "AWS_")
        .with_bucket_name(bucket)
        .with_retry(once)
        .with_allow_http(true)
        .with_http_connector(connector);
    if let Some(endpoint) = &settings.endpoint {
        builder = builder.with_endpoint(endpoint.trim_end_matches('/'));
    }
    if let Some(region) = &settings.region {
        builder = builder.with_region(region);
    }
    if let Some(path_style) = settings.path_style {
        builder = builder.with_virtual_hosted_style_request(!path_style);
    }
    if let (Some(key), Some(secret)) = (&settings.access_key, &settings.secret_key) {
        builder = builder
            .with_access_key_id(key)
            .with_secret_access_key(secret);
        if let Some(token) = &settings.token {
            builder = builder.with_token(token);
        }
    }
    if settings.anonymous {
        builder = builder.with_skip_signature(true);
    }
    sides!(builder.build()?)
}

fn gs(bucket: &str, settings: &StorePlan, connector: Connector, once: RetryConfig) -> Made {
    let mut builder =
        from_environment!(GoogleCloudStorageBuilder::new(), GoogleConfigKey, "GOOGLE_")
            .with_bucket_name(bucket)
            .with_retry(once)
            .with_http_connector(connector);
    if let Some(endpoint) = &settings.endpoint {
        builder = builder.with_base_url(endpoint.trim_end_matches('/'));
    }
    if let Some(file) = &settings.key_file {
        builder = builder.with_service_account_path(file);
    }
    if let Some(token) = &settings.token {
        builder = builder.with_bearer_token(token);
    }
    if settings.anonymous {
        builder = builder.with_skip_signature(true);
    }
    sides!(builder.build()?)
}

fn az(container: &str, settings: &StorePlan, connector: Connector, once: RetryConfig) -> Made {
    let mut builder = from_environment!(MicrosoftAzureBuilder::new(), AzureConfigKey, "AZURE_")
        .with_container_name(container)
        .with_retry(once)
        .with_allow_http(true)
        .with_http_connector(connector);
    if let Some(account) = &settings.account {
        builder = builder.with_account(account);
    }
    if let Some(key) = &settings.secret_key {
        builder = builder.with_access_key(key);
    }
    if let Some(endpoint) = &settings.endpoint {
        builder = builder.with_endpoint(endpoint.trim_end_matches('/').to_string());
    }
    if let Some(token) = &settings.token {
        builder = builder.with_bearer_token_authorization(token);
    }
    if settings.anonymous {
        builder = builder.with_skip_signature(true);
    }
    sides!(builder.build()?)
}
