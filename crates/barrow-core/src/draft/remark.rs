//! What a draft could not decide, or decided on weak grounds.

/// One thing to look at, with the key that would change it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// The column that it is about; none for the file as a whole.
    pub column: Option<String>,
    /// What is so, in plain words.
    pub says: String,
    /// What to write in the spec to change it.
    pub key: Option<String>,
}

impl Remark {
    /// One about the file.
    pub fn of_file(says: impl Into<String>, key: impl Into<String>) -> Remark {
        Remark {
            column: None,
            says: says.into(),
            key: Some(key.into()).filter(|key: &String| !key.is_empty()),
        }
    }

    /// One about a column, whose name is set later.
    pub fn new(says: impl Into<String>, key: impl Into<String>) -> Remark {
        Remark::of_file(says, key)
    }

    /// The remark in one line, without the column.
    pub fn line(&self) -> String {
        match &self.key {
            Some(key) => format!("{} · to change it: {key}", self.says),
            None => self.says.clone(),
        }
    }
}
