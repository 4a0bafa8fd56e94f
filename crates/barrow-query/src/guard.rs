//! A query only reads: everything else is refused while a statement is prepared.

use rusqlite::hooks::{AuthAction, AuthContext, Authorization};

use crate::shared::Shared;

/// Functions that reach beyond the rows.
const BEYOND: [&str; 2] = ["load_extension", "fts3_tokenizer"];

/// Decides on what a statement does.
pub fn decide(shared: &Shared, context: &AuthContext<'_>) -> Authorization {
    let what = match &context.action {
        AuthAction::Select | AuthAction::Read { .. } | AuthAction::Recursive => {
            return Authorization::Allow;
        }
        AuthAction::Function { function_name } => {
            let mut beyond = BEYOND.iter();
            match beyond.find(|name| function_name.eq_ignore_ascii_case(name)) {
                None => return Authorization::Allow,
                Some(name) => (*name).to_string(),
            }
        }
        AuthAction::Attach { .. } => "ATTACH".into(),
        AuthAction::Detach { .. } => "DETACH".into(),
        AuthAction::Pragma { .. } => "PRAGMA".into(),
        AuthAction::Insert { .. } => "INSERT".into(),
        AuthAction::Update { .. } => "UPDATE".into(),
        AuthAction::Delete { .. } => "DELETE".into(),
        AuthAction::Transaction { .. } | AuthAction::Savepoint { .. } => "a transaction".into(),
        _ => "a statement that changes something".into(),
    };
    shared.refuse(&what);
    Authorization::Deny
}
