//! The one thread that waits for the network, for callers that know nothing of it.

use std::future::Future;
use std::io;
use std::sync::Arc;

use tokio::runtime::{Builder, Handle, Runtime};

/// Runs what waits for the network.
#[derive(Debug, Clone)]
pub struct Network(Arc<Runtime>);

impl Network {
    /// Starts the thread.
    ///
    /// # Errors
    /// The system has no thread left.
    pub fn start() -> io::Result<Network> {
        // Needed once before the first connection; another library may have been first.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let runtime = Builder::new_multi_thread()
            .worker_threads(1)
            .thread_name("network")
            .enable_all()
            .build()?;
        Ok(Network(Arc::new(runtime)))
    }

    /// Waits here for what comes of it.
    pub fn wait<T>(&self, work: impl Future<Output = T>) -> T {
        self.0.block_on(work)
    }

    /// For what goes on by itself.
    pub fn handle(&self) -> &Handle {
        self.0.handle()
    }
}
