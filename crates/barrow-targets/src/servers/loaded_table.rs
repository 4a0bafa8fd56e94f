//! A table of a load into a server.

/// A table that is loaded.
pub struct LoadedTable {
    /// Its name.
    pub name: String,
    /// Whether it was there before.
    pub was_there: bool,
    /// How many rows it has, unless triggers or others may change that.
    pub rows: Option<u64>,
    /// The table that is made beside it, to take its place.
    pub beside: Option<String>,
}

impl LoadedTable {
    /// The name of the table that rows go into.
    pub fn destination(&self) -> &str {
        self.beside.as_deref().unwrap_or(&self.name)
    }

    /// The server's words, in which a table beside has the name that it is to have.
    pub fn in_its_words(&self, words: String) -> String {
        let bare = |name: &str| {
            name.split_once('.')
                .map_or(name, |(_, bare)| bare)
                .to_string()
        };
        match &self.beside {
            Some(beside) => words.replace(&bare(beside), &bare(&self.name)),
            None => words,
        }
    }
}
