//! Help at hand: commands, keys, codes and types, and what shells and editors read.

use crate::market::Market;

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
            said.code == 0 && said.out.contains("max-rejects"),
            "{shell}\n{}",
            said.err
        );
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
