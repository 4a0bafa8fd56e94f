//! What stands above the sections of a spec, and the settings of a folder.

use super::{Key, SETTINGS, Takes};

/// The keys, in the order of the documents.
pub const KEYS: &[Key] = &[
    Key {
        section: super::TOP,
        name: "extends",
        takes: Takes::Text,
        default: "nothing",
        meaning: "Another spec: what this one does not say, that one does, key by key. Columns, record types, checks, totals and references are taken as a whole. A path is from this spec's folder.",
        example: r#"extends = "house.spec.toml""#,
    },
    Key {
        section: SETTINGS,
        name: "database",
        takes: Takes::Text,
        default: "none",
        meaning: "The database of all specs in this folder and below it that name none, and of `barrow ledger` and `barrow undo` there.",
        example: r#"database = "sqlite:market.db""#,
    },
    Key {
        section: SETTINGS,
        name: "rejects",
        takes: Takes::Text,
        default: "`\"rejects\"`, beside the spec",
        meaning: "The folder of rejects, as `[rejects] folder`; `barrow mend` looks into it as well.",
        example: r#"rejects = "rejects""#,
    },
    Key {
        section: SETTINGS,
        name: "values",
        takes: Takes::Any,
        default: "nothing",
        meaning: "The section `[values]`, for all specs that do not say its keys themselves.",
        example: "[values]\ndecimal_mark = \",\"",
    },
    Key {
        section: SETTINGS,
        name: "stores",
        takes: Takes::Any,
        default: "nothing",
        meaning: "The sections `[stores.NAME]`, for all specs, and for addresses on the command line of `barrow draft`.",
        example: "[stores.market]\nregion = \"eu-central-1\"",
    },
];
