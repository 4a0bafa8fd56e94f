//! Where values stand in a record that names its fields: by key, or by a JSON Pointer.

/// A way into an object: a key, and what lies within that.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct KeyPath {
    /// Keys, or places in arrays, from the outermost in; at least one.
    pub steps: Vec<String>,
}

impl KeyPath {
    /// A key as it is; or, where it begins with a slash, a JSON Pointer (RFC 6901).
    ///
    /// ```
    /// use barrow_core::format::KeyPath;
    /// assert_eq!(KeyPath::parse("a/b").steps, ["a/b"]);
    /// assert_eq!(KeyPath::parse("/tags/0").steps, ["tags", "0"]);
    /// assert_eq!(KeyPath::parse("/a~1b/~01").steps, ["a/b", "~1"]);
    /// ```
    pub fn parse(text: &str) -> KeyPath {
        let plain = |step: &str| step.replace("~1", "/").replace("~0", "~");
        let steps = match text.strip_prefix('/') {
            Some(pointer) => pointer.split('/').map(plain).collect(),
            None => vec![text.to_string()],
        };
        KeyPath { steps }
    }
}

/// A column's value within a record.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyField {
    /// The ways to it, tried in order.
    pub paths: Vec<KeyPath>,
    /// Whether a record may lack it.
    pub optional: bool,
    /// Whether it is taken as it is written, quotes and all: a document of its own.
    pub is_document: bool,
    /// Whether a number or truth value by itself is read otherwise than text.
    pub tells_bare_values: bool,
}

/// The keys that a record type asks for, as a tree.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyTree {
    /// The fields, in the order of the record type's columns.
    pub fields: Vec<KeyField>,
    /// The outermost keys.
    pub root: Vec<KeyNode>,
    /// Whether every field has one way, which is an outermost key that is written as it is.
    pub is_flat: bool,
}

/// A key, and what is asked for at it and within it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct KeyNode {
    /// The key.
    pub name: String,
    /// The key as nearly every object has it: in quotes, with its colon.
    pub written: Vec<u8>,
    /// The fields that are its value, each with the place of this way among the field's.
    pub wanted: Vec<(usize, usize)>,
    /// What is asked for within its value.
    pub within: Vec<KeyNode>,
}

impl KeyTree {
    /// For these fields.
    pub fn new(fields: Vec<KeyField>) -> KeyTree {
        let mut root = Vec::new();
        for (number, field) in fields.iter().enumerate() {
            for (rank, path) in field.paths.iter().enumerate() {
                grow(&mut root, &path.steps, (number, rank));
            }
        }
        let is_flat = fields.iter().all(|field| field.paths.len() == 1)
            && root.iter().all(|node: &KeyNode| {
                let escaped = |byte| matches!(byte, b'"' | b'\\' | 0..0x20);
                node.within.is_empty() && !node.name.bytes().any(escaped)
            });
        KeyTree {
            fields,
            root,
            is_flat,
        }
    }
}

fn grow(nodes: &mut Vec<KeyNode>, steps: &[String], wanted: (usize, usize)) {
    let Some((first, rest)) = steps.split_first() else {
        return;
    };
    let at = nodes.iter().position(|node| node.name == *first);
    let at = at.unwrap_or_else(|| {
        nodes.push(KeyNode {
            name: first.clone(),
            written: format!("\"{first}\":").into_bytes(),
            ..KeyNode::default()
        });
        nodes.len() - 1
    });
    match rest {
        [] => nodes[at].wanted.push(wanted),
        rest => grow(&mut nodes[at].within, rest, wanted),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ways_with_a_common_start_share_it() {
        let field = |paths: &[&str]| KeyField {
            paths: paths.iter().map(|path| KeyPath::parse(path)).collect(),
            ..KeyField::default()
        };
        let tree = KeyTree::new(vec![field(&["/a/b", "b"]), field(&["/a/c"]), field(&["a"])]);
        let names: Vec<&str> = tree.root.iter().map(|node| node.name.as_str()).collect();
        assert_eq!(names, ["a", "b"]);
        assert_eq!(tree.root[0].wanted, [(2, 0)]);
        assert_eq!(tree.root[0].within[0].wanted, [(0, 0)]);
        assert_eq!(tree.root[1].wanted, [(0, 1)]);
    }
}
