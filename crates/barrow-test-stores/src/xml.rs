//! The few documents that the S3 protocol answers with.

/// Text as it stands in XML.
pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

/// An element with text in it.
pub fn element(name: &str, text: &str) -> String {
    format!("<{name}>{}</{name}>", escaped(text))
}

/// A document.
pub fn document(root: &str, inner: &str) -> String {
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n\
         <{root} xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\">{inner}</{root}>"
    )
}

/// The texts of all elements of this name, without what is nested in them undone.
pub fn texts<'x>(xml: &'x str, name: &str) -> Vec<&'x str> {
    let (open, close) = (format!("<{name}>"), format!("</{name}>"));
    let mut found = Vec::new();
    let mut rest = xml;
    while let Some(start) = rest.find(&open) {
        rest = &rest[start + open.len()..];
        let Some(end) = rest.find(&close) else { break };
        found.push(&rest[..end]);
        rest = &rest[end..];
    }
    found
}

/// Text of XML as it is.
pub fn plain(text: &str) -> String {
    text.replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&quot;", "\"")
        .replace("&apos;", "'")
        .replace("&amp;", "&")
}
