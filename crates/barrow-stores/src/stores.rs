//! All places that are not this machine, by their addresses.

use std::collections::HashMap;
use std::io;
use std::sync::{Mutex, OnceLock, PoisonError};

use barrow_core::Error;
use barrow_core::escape::escape_for_display;
use barrow_core::plan::StorePlan;
use barrow_core::source::{Elsewhere, SourceFile};

use crate::address::{Address, Scheme, shown};
use crate::connect::{Client, connect};
use crate::fault::Fault;
use crate::listing;
use crate::object::Object;
use crate::runtime::Network;
use crate::settings::{self, Environment};
use crate::upload::Upload;
use crate::web;

/// Finds files in stores and on the web, and writes to stores. Nothing is connected before
/// it is asked for.
#[derive(Default)]
pub struct Stores {
    settings: Vec<(String, StorePlan)>,
    network: OnceLock<Network>,
    clients: Mutex<HashMap<(Scheme, String), Client>>,
}

impl Stores {
    /// By what the environment says, and nothing else.
    pub fn from_environment() -> Stores {
        Stores::default()
    }

    /// By what a spec says as well; where both say something, the spec's word counts.
    ///
    /// # Errors
    /// A variable that the spec names and the environment does not have, in plain words.
    pub fn new(plans: &[StorePlan], environment: Environment<'_>) -> Result<Stores, String> {
        let settings = plans
            .iter()
            .map(|plan| Ok((plan.name.clone(), settings::filled(plan, environment)?)));
        Ok(Stores {
            settings: settings.collect::<Result<_, String>>()?,
            ..Stores::default()
        })
    }

    /// What is never to be shown of the settings.
    pub fn secrets(&self) -> impl Iterator<Item = &str> {
        self.settings
            .iter()
            .flat_map(|(_, of_store)| settings::secrets(of_store))
    }

    /// The settings of a bucket or host: its own, or those of its scheme.
    fn settings(&self, scheme: Scheme, name: &str) -> StorePlan {
        let of = |wanted: &str| self.settings.iter().find(|(name, _)| name == wanted);
        let found = of(name).or_else(|| of(scheme.word()));
        found
            .map(|(_, settings)| settings.clone())
            .unwrap_or_default()
    }

    fn network(&self) -> Result<Network, Fault> {
        if let Some(network) = self.network.get() {
            return Ok(network.clone());
        }
        let started = Network::start();
        let network = started.map_err(|error| Fault::Other(format!("no thread: {error}")))?;
        Ok(self.network.get_or_init(|| network).clone())
    }

    fn client(&self, scheme: Scheme, bucket: &str) -> Result<Client, Fault> {
        let mut clients = self.clients.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (scheme, bucket.to_string());
        if let Some(client) = clients.get(&key) {
            return Ok(client.clone());
        }
        let environment = |name: &str| std::env::var(name).ok();
        let settings = self.settings(scheme, bucket);
        let client = connect(scheme, bucket, settings, &environment)?;
        clients.insert(key, client.clone());
        Ok(client)
    }

    fn objects(&self, scheme: Scheme, bucket: &str, key: &str) -> Result<Vec<SourceFile>, Fault> {
        let network = self.network()?;
        let client = self.client(scheme, bucket)?;
        let found = match network.wait(listing::find(&client, key)) {
            Err(Fault::Missing) => Vec::new(),
            found => found?,
        };
        if found.is_empty() {
            return Err(self.nothing(&network, &client, scheme, bucket, key));
        }
        let objects = found
            .into_iter()
            .map(|meta| SourceFile::new(Object::new(&network, &client, scheme, bucket, meta)));
        Ok(objects.collect())
    }

    /// Why there is no such object, with advice.
    fn nothing(
        &self,
        network: &Network,
        client: &Client,
        scheme: Scheme,
        bucket: &str,
        key: &str,
    ) -> Fault {
        let near = match network.wait(listing::near(client, key)) {
            Ok(near) => near,
            Err(Fault::Missing) => {
                let bucket = escape_for_display(bucket.as_bytes());
                return Fault::Other(format!("there is no bucket {bucket}"));
            }
            // Whoever may read an object need not be let to see the others.
            Err(_) => Vec::new(),
        };
        let Some(near) = near.first().filter(|_| !key.contains(['*', '?', '['])) else {
            return Fault::Missing;
        };
        let address = |key: &str| {
            escape_for_display(format!("{}://{bucket}/{key}", scheme.word()).as_bytes())
        };
        let all = match near.starts_with(&format!("{key}/")) {
            true => format!("{key}/"),
            false => format!("{key}*"),
        };
        Fault::Other(format!(
            "there is no such object; {} is there (all that begin so: {})",
            address(near),
            address(&all)
        ))
    }

    /// Begins to write an object.
    ///
    /// # Errors
    /// The address is of no object store, or has no key.
    pub fn upload(&self, address: &str) -> io::Result<Upload> {
        let (client, path) = self.place(address)?;
        let network = self.network().map_err(Fault::into_io)?;
        Ok(Upload::new(&network, &client, path))
    }

    /// Deletes an object; one that is not there is deleted already.
    ///
    /// # Errors
    /// The store refuses.
    pub fn delete(&self, address: &str) -> io::Result<()> {
        use object_store::ObjectStoreExt;
        let (client, path) = self.place(address)?;
        let network = self.network().map_err(Fault::into_io)?;
        match network.wait(client.objects.delete(&path)) {
            Ok(()) | Err(object_store::Error::NotFound { .. }) => Ok(()),
            Err(error) => Err(Fault::of_store(&error).into_io()),
        }
    }

    /// Whether there is an object at an address.
    ///
    /// # Errors
    /// The store refuses.
    pub fn exists(&self, address: &str) -> io::Result<bool> {
        use object_store::ObjectStoreExt;
        let (client, path) = self.place(address)?;
        let network = self.network().map_err(Fault::into_io)?;
        match network.wait(client.objects.head(&path)) {
            Ok(_) => Ok(true),
            Err(object_store::Error::NotFound { .. }) => Ok(false),
            Err(error) => Err(Fault::of_store(&error).into_io()),
        }
    }

    fn place(&self, address: &str) -> io::Result<(Client, object_store::path::Path)> {
        let wrong = |says: String| io::Error::new(io::ErrorKind::InvalidInput, says);
        match Address::parse(address).map_err(wrong)? {
            Address::Web(_) => Err(wrong(
                "files are written to object stores, not to the web".into(),
            )),
            Address::Object { key, .. } if key.is_empty() || key.ends_with('/') => {
                Err(wrong("the address has no name for the object".into()))
            }
            Address::Object {
                scheme,
                bucket,
                key,
            } => {
                let client = self.client(scheme, &bucket).map_err(Fault::into_io)?;
                Ok((client, listing::path_of(&key).map_err(Fault::into_io)?))
            }
        }
    }

    fn found(&self, address: &Address) -> Result<Vec<SourceFile>, Fault> {
        match address {
            Address::Object {
                scheme,
                bucket,
                key,
            } => self.objects(*scheme, bucket, key),
            Address::Web(url) => {
                let settings = self.settings(Scheme::Web, url.host_str().unwrap_or_default());
                let file = web::find(&self.network()?, url.clone(), settings)?;
                Ok(vec![SourceFile::new(file)])
            }
        }
    }
}

impl Elsewhere for Stores {
    fn find(&self, address: &str) -> Result<Vec<SourceFile>, Error> {
        let parsed = Address::parse(address).map_err(Error::NoFile)?;
        self.found(&parsed).map_err(|fault| {
            let name = match &parsed {
                Address::Web(url) => shown(url),
                Address::Object { .. } => escape_for_display(address.as_bytes()),
            };
            match fault {
                Fault::Missing => Error::NoFile(format!("there is no file {name}")),
                fault => Error::NoFile(format!("{name}: {fault}")),
            }
        })
    }
}
