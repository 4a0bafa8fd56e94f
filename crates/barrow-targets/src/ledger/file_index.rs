//! The ledger's files, found by their paths, names and sizes: of thousands, each is asked
//! for once a file of a load.

use std::collections::HashMap;
use std::hash::Hash;

use super::File;

/// Files of the ledger, the oldest first.
#[derive(Default)]
pub struct FileIndex {
    files: Vec<File>,
    by_path: HashMap<String, Vec<usize>>,
    by_name: HashMap<String, Vec<usize>>,
    by_size: HashMap<u64, Vec<usize>>,
}

impl FileIndex {
    /// Of files, the oldest first.
    pub fn new(files: Vec<File>) -> FileIndex {
        FileIndex {
            by_path: places(&files, |file| file.path.clone()),
            by_name: places(&files, |file| file.name.clone()),
            by_size: places(&files, |file| file.bytes),
            files,
        }
    }

    /// All of them.
    pub fn all(&self) -> &[File] {
        &self.files
    }

    /// Those of a path.
    pub fn of_path(&self, path: &str) -> impl DoubleEndedIterator<Item = &File> {
        self.at(self.by_path.get(path))
    }

    /// Those of a name.
    pub fn of_name(&self, name: &str) -> impl DoubleEndedIterator<Item = &File> {
        self.at(self.by_name.get(name))
    }

    /// Those of a size in bytes.
    pub fn of_size(&self, size: u64) -> impl DoubleEndedIterator<Item = &File> {
        self.at(self.by_size.get(&size))
    }

    fn at<'i>(
        &'i self,
        places: Option<&'i Vec<usize>>,
    ) -> impl DoubleEndedIterator<Item = &'i File> {
        let places = places.map_or(&[][..], Vec::as_slice);
        places.iter().map(|place| &self.files[*place])
    }
}

fn places<K: Hash + Eq>(files: &[File], key: impl Fn(&File) -> K) -> HashMap<K, Vec<usize>> {
    let mut found: HashMap<K, Vec<usize>> = HashMap::with_capacity(files.len());
    for (place, file) in files.iter().enumerate() {
        found.entry(key(file)).or_default().push(place);
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_found_by_each_of_its_sides_the_oldest_first() {
        let file = |run: &str, path: &str, bytes| File {
            run: run.into(),
            path: format!("s3://market/{path}"),
            name: path.into(),
            bytes,
            ..File::default()
        };
        let index = FileIndex::new(vec![
            file("a", "w", 7),
            file("b", "w", 5),
            file("c", "x", 5),
        ]);
        let runs = |found: Vec<&File>| -> Vec<String> {
            found.into_iter().map(|file| file.run.clone()).collect()
        };
        assert_eq!(runs(index.of_path("s3://market/w").collect()), ["a", "b"]);
        assert_eq!(runs(index.of_name("x").collect()), ["c"]);
        assert_eq!(runs(index.of_size(5).collect()), ["b", "c"]);
        assert!(index.of_size(1).next().is_none());
    }
}
