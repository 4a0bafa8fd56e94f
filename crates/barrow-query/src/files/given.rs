//! What the places of a table in one query have in common.

use std::collections::HashMap;
use std::sync::Arc;

use super::kept::Kept;
use crate::shared::Shared;
use crate::tables::FileTable;

/// What a virtual table is made of.
#[derive(Clone)]
pub struct Given {
    /// The table.
    pub table: Arc<FileTable>,
    /// What the query's parts know in common.
    pub shared: Shared,
}

/// How often each place of the table in the query was looked through, and what was kept.
#[derive(Default)]
pub struct Scans {
    /// Looks, by the place and the file that it was for, where it was for one.
    pub begun: HashMap<(u64, Option<String>), u64>,
    /// Kept rows, by the place.
    pub kept: HashMap<u64, Kept>,
}
