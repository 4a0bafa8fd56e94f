//! Help at hand: commands, keys, codes and types, and what shells and editors read.

use crate::market::{Market, said};

#[test]
fn every_command_key_and_code_has_its_help() {
    let m = Market::with(&[]);
    let all = m.run("help");
    assert_eq!(all.code, 0, "{}", all.err);
    for command in ["load", "draft", "check", "query", "undo", "ledger", "help"] {
        assert!(all.out.contains(command), "{}", all.out);
        let said = m.run(&format!("help {command}"));
        assert!(
            said.code == 0 && said.out.contains("Usage: barrow "),
            "{command}\n{}",
            said.out
        );
    }
    for (words, wanted) in [
        ("null_values", "[values] null_values"),
        ("values.null_values", "takes"),
        ("[values] null_values", "default"),
        ("source", "when_undecodable"),
        ("[stores.NAME]", "secret_key"),
        ("na_values", "null_values"),
        ("too-precise", "values.when_too_precise"),
        ("types", "decimal(p,s)"),
        ("varchar(20)", "at most n characters"),
        ("codes", "unclosed-quote"),
        ("keys", "[[control_total]]"),
    ] {
        let said = m.run(&format!("help {words}"));
        assert_eq!(said.code, 0, "{words}\n{}", said.err);
        assert!(said.out.contains(wanted), "{words}\n{}", said.out);
        assert!(
            said.out.lines().all(|line| line.chars().count() <= 100),
            "{words}\n{}",
            said.out
        );
    }
    let said = m.run("help nul_values");
    assert!(
        said.code == 2 && said.err.contains("did you mean null_values?"),
        "{}",
        said.err
    );
    let said = m.run("help \u{1b}zzzzzzzz");
    assert!(
        said.code == 2 && !said.err.contains('\u{1b}'),
        "{}",
        said.err
    );
}

#[test]
fn shells_editors_and_manuals_have_their_files() {
    let m = Market::with(&[]);
    let schema = m.run("help --schema").json();
    assert_eq!(
        schema["properties"]["target"]["properties"]["mode"]["enum"][0],
        "append"
    );
    for shell in ["bash", "zsh", "fish", "powershell"] {
        let said = m.run(&format!("help --completion {shell}"));
        assert!(
            said.code == 0 && said.out.contains("BARROW_COMPLETE"),
            "{shell}\n{}",
            said.err
        );
        let proposed = completed(&m, shell, "load --max");
        assert!(proposed.contains("max-rejects"), "{shell}: {proposed}");
    }
    let said = m.run("help --man pages");
    assert_eq!(said.code, 0, "{}", said.err);
    let page = String::from_utf8(m.read("pages/barrow-undo.1")).expect("UTF-8");
    assert!(
        page.starts_with(".") && page.contains("run_column"),
        "{page}"
    );
    assert!(m.path("pages/barrow.1").exists());
}

/// What is proposed for the last of these words.
fn completed(m: &Market, shell: &str, words: &str) -> String {
    let mut command = m.command(&format!("-- barrow {words}"));
    if words.ends_with(' ') {
        command.arg("");
    }
    let place = words.split(' ').count();
    command
        .env("BARROW_COMPLETE", shell)
        .env("_CLAP_COMPLETE_INDEX", place.to_string())
        .env("_CLAP_IFS", "\n");
    let said = said(command);
    assert_eq!(said.code, 0, "{words}: {}", said.err);
    said.out
}

#[test]
fn columns_tables_runs_and_keys_are_completed() {
    let m = Market::with(&[("stalls.csv", b"stall,keeper\n1,Ada\n2,Ivy\n")]);
    m.run("draft stalls.csv -o stalls.spec.toml");
    m.run("load stalls.spec.toml");
    let run = m
        .run("ledger --database sqlite:stalls.db --report json")
        .json();
    let run = run["runs"][0]["run"].as_str().expect("an id").to_string();
    for (words, wanted) in [
        ("export stalls.spec.toml --split-by ke", "keeper"),
        ("export --database sqlite:stalls.db --table st", "stalls"),
        ("undo --database sqlite:stalls.db ", run.as_str()),
        ("ledger --spec stalls.spec.toml ", run.as_str()),
        ("help null_v", "null_values"),
        ("help too-pr", "too-precise"),
        ("load st", "stalls.spec.toml"),
    ] {
        let proposed = completed(&m, "bash", words);
        assert!(
            proposed.lines().any(|line| line.trim() == wanted),
            "{words}: {proposed}"
        );
    }
    assert!(!completed(&m, "bash", "load st").contains("stalls.csv"));
    // What a name would do to a terminal, it does not do.
    let connection = rusqlite::Connection::open(m.path("stalls.db")).expect("a database");
    connection
        .execute_batch("CREATE TABLE \"st\u{1b}[2J\" (a)")
        .expect("a table");
    let tables = completed(&m, "bash", "export --database sqlite:stalls.db --table st");
    assert!(
        tables.contains("stalls") && !tables.contains('\u{1b}'),
        "{tables}"
    );
    // A spec that is wrong, and a database that is not there, are nothing to complete by.
    let wrong = completed(&m, "bash", "export no.spec.toml --split-by ");
    assert_eq!(wrong.trim(), "");
    let options = completed(&m, "bash", "undo --database sqlite:no.db ");
    assert!(
        options.lines().all(|line| line.starts_with("--")),
        "{options}"
    );
    assert!(!m.path("no.db").exists());
}
