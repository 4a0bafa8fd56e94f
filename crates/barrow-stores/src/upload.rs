//! Writes an object in parts. Nobody sees it before it is whole: it is completed at the end,
//! and given up where the end does not come.

use std::collections::VecDeque;
use std::io::{self, Write};
use std::mem;

use object_store::path::Path;
use object_store::{MultipartUpload, ObjectStoreExt, PutPayload, PutResult};
use tokio::task::JoinHandle;

use crate::connect::Client;
use crate::fault::Fault;
use crate::runtime::Network;

/// The size of the first parts. A store takes 10,000 of them, so they grow.
const PART: usize = 8 << 20;

/// How many parts are of one size before that doubles.
const PARTS_OF_A_SIZE: usize = 1000;

/// How many parts are under way at once.
const AT_ONCE: usize = 3;

/// An object that is being written.
pub struct Upload {
    network: Network,
    client: Client,
    path: Path,
    /// What is not yet on its way.
    buffer: Vec<u8>,
    parts: Option<Box<dyn MultipartUpload>>,
    under_way: VecDeque<JoinHandle<object_store::Result<()>>>,
    sent: usize,
}

impl Upload {
    /// Begins an object. Nothing is asked of the store before there is a part to send.
    pub(crate) fn new(network: &Network, client: &Client, path: Path) -> Upload {
        Upload {
            network: network.clone(),
            client: client.clone(),
            path,
            buffer: Vec::new(),
            parts: None,
            under_way: VecDeque::new(),
            sent: 0,
        }
    }

    fn part_size(&self) -> usize {
        PART << (self.sent / PARTS_OF_A_SIZE).min(6)
    }

    fn send(&mut self) -> Result<(), Fault> {
        if self.parts.is_none() {
            let begun = self
                .network
                .wait(self.client.objects.put_multipart(&self.path));
            self.parts = Some(begun.map_err(|error| Fault::of_store(&error))?);
        }
        while self.under_way.len() >= AT_ONCE {
            self.wait_for_one()?;
        }
        if let Some(parts) = &mut self.parts {
            let part = parts.put_part(PutPayload::from(mem::take(&mut self.buffer)));
            self.under_way.push_back(self.network.handle().spawn(part));
            self.sent += 1;
        }
        Ok(())
    }

    fn wait_for_one(&mut self) -> Result<(), Fault> {
        let Some(part) = self.under_way.pop_front() else {
            return Ok(());
        };
        let sent = self.network.wait(part);
        let sent = sent.map_err(|error| Fault::Other(error.to_string()))?;
        sent.map_err(|error| Fault::of_store(&error))
    }

    /// Sends what there is and waits until it has arrived, so that nothing of it is held
    /// until the object is completed.
    ///
    /// # Errors
    /// A part was refused.
    pub fn settle(&mut self) -> io::Result<()> {
        if !self.buffer.is_empty() {
            self.send().map_err(Fault::into_io)?;
        }
        while !self.under_way.is_empty() {
            self.wait_for_one().map_err(Fault::into_io)?;
        }
        Ok(())
    }

    /// Completes the object: from here on everybody sees it.
    ///
    /// # Errors
    /// A part or the whole was refused; then there is no object.
    pub fn finish(mut self) -> io::Result<()> {
        self.complete().map_err(Fault::into_io)
    }

    fn complete(&mut self) -> Result<(), Fault> {
        if self.parts.is_none() {
            let payload = PutPayload::from(mem::take(&mut self.buffer));
            let put = self
                .network
                .wait(self.client.objects.put(&self.path, payload));
            return put
                .map(|_: PutResult| ())
                .map_err(|error| Fault::of_store(&error));
        }
        if !self.buffer.is_empty() {
            self.send()?;
        }
        while !self.under_way.is_empty() {
            self.wait_for_one()?;
        }
        let Some(parts) = &mut self.parts else {
            return Ok(());
        };
        let completed = self.network.wait(parts.complete());
        completed.map_err(|error| Fault::of_store(&error))?;
        self.parts = None;
        Ok(())
    }
}

impl Write for Upload {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let room = self.part_size() - self.buffer.len();
        let taken = bytes.len().min(room);
        self.buffer.extend_from_slice(&bytes[..taken]);
        if self.buffer.len() == self.part_size() {
            self.send().map_err(Fault::into_io)?;
        }
        Ok(taken)
    }

    /// A part goes when it is full.
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Upload {
    fn drop(&mut self) {
        if let Some(mut parts) = self.parts.take() {
            for part in self.under_way.drain(..) {
                part.abort();
            }
            // What is left there costs money; that it could not be told is no fault here.
            let _ = self.network.wait(parts.abort());
        }
    }
}
