//! What people meet who name the wrong thing: they are told what it is, and what to do.

use crate::databases::{Database, Kind};
use crate::market::Market;

const SPEC: &[u8] = b"[source]\nfiles = [\"sales.csv\"]\n[columns]\na = \"text\"\nb = \"text\"\n\
    [target]\ninto = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

#[test]
fn what_is_named_wrong_is_told_with_what_to_do() {
    let m = Market::with(&[
        ("sales.csv", b"a,b\n1,2\n"),
        ("d.spec.toml", SPEC),
        ("specs/x.spec.toml", SPEC),
    ]);
    for (words, code, err) in [
        (
            "load sales.csv",
            2,
            "barrow draft sales.csv -o sales.spec.toml",
        ),
        ("check sales.csv", 2, "sales.csv is not a spec"),
        ("ddl -", 2, "a spec does not come from standard input"),
        ("export -", 2, "a spec does not come from standard input"),
        ("load -", 2, "a spec does not come from standard input"),
        ("load specs", 2, "specs is a folder, and a spec is a file"),
        ("load specs", 2, "specs/x.spec.toml"),
        ("load e.spec.toml", 1, "is it d.spec.toml?"),
        (
            "load d.spec.toml sale.csv",
            1,
            "there is no file sale.csv; is it sales.csv?",
        ),
        (
            "load d.spec.toml --into sqlite:nodir/x.db",
            1,
            "there is no folder nodir",
        ),
    ] {
        let said = m.run(words);
        assert_eq!(said.code, code, "{words}: {}", said.err);
        assert!(said.err.contains(err), "{words}: {}", said.err);
        assert!(!said.err.contains("os error"), "{words}: {}", said.err);
    }
    assert_eq!(
        m.run("ddl d.spec.toml --for mysql").out,
        m.run("ddl d.spec.toml --for mariadb").out
    );
    assert!(
        m.run("ddl d.spec.toml --for mysql")
            .out
            .contains("ENGINE=InnoDB")
    );
}

#[test]
fn a_wrong_delimiter_is_told_as_such() {
    let m = Market::with(&[("sales.csv", b"a;b\n1;2\n"), ("d.spec.toml", SPEC)]);
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 2);
    assert!(
        said.err
            .contains("the header is one field; with [delimited] delimiter = \";\" it has 2"),
        "{}",
        said.err
    );
}

#[test]
fn a_look_is_not_cut_where_it_goes_into_a_file() {
    let long = "x".repeat(300);
    let m = Market::with(&[
        ("d.spec.toml", SPEC),
        ("sales.csv", format!("a,b\n{long},2\n").as_bytes()),
    ]);
    for words in ["peek d.spec.toml", "peek sales.csv"] {
        assert!(m.run(words).out.contains(&long), "{words}");
    }
}

#[test]
fn what_is_made_is_said() {
    let m = Market::with(&[("sales.csv", b"a,b\n1,2\n"), ("d.spec.toml", SPEC)]);
    let said = m.run("load d.spec.toml");
    assert!(
        said.out.contains("database sqlite:m.db: created"),
        "{}",
        said.out
    );
    assert!(said.out.contains("table d: created"), "{}", said.out);
    m.sql("DROP TABLE d");
    let said = m.run("load d.spec.toml");
    assert!(
        said.out
            .contains("table d: created, for it was gone; 1 file"),
        "{}",
        said.out
    );
}

#[test]
fn a_merge_without_a_unique_index_is_shown_its_statement() {
    for kind in [Kind::Sqlite, Kind::Postgres, Kind::MariaDb] {
        let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\n[target]\ntable = \"d\"\n\
                    mode = \"merge\"\nkey = [\"id\"]\n";
        let d = Database::new(
            kind,
            &[("d.csv", b"id\n1\n"), ("d.spec.toml", spec.as_bytes())],
        );
        d.sql(&["CREATE TABLE d (id INTEGER NOT NULL)"]);
        let said = d.run("load d.spec.toml");
        assert_eq!(said.code, 2);
        let start = said
            .err
            .find("CREATE UNIQUE INDEX")
            .unwrap_or_else(|| panic!("{}", said.err));
        // It does what it is there for.
        d.sql(&[said.err[start..].lines().next().unwrap()]);
        assert_eq!(d.run("load d.spec.toml").code, 0);
    }
}

#[test]
fn a_spec_with_very_long_lines_and_very_many_slips_is_told_quickly() {
    let long = format!(
        "[columns]\na = {{ type = \"text\", typo = \"{}\" }}\n",
        "x".repeat(200_000)
    );
    let many = format!("[columns]\n{}", "a\n".repeat(30_000));
    let m = Market::with(&[
        ("long.toml", long.as_bytes()),
        ("many.toml", many.as_bytes()),
    ]);
    let said = m.run("check long.toml");
    assert_eq!(said.code, 2, "{}", said.err.len());
    assert!(
        said.err.contains("typo") && said.err.len() < 20_000,
        "{}",
        said.err.len()
    );
    let said = m.run("check many.toml");
    assert!(
        said.code == 2 && said.err.contains(" more"),
        "{}",
        said.err.len()
    );
    assert!(said.err.len() < 100_000, "{}", said.err.len());
    let terms = vec!["a = 'x'"; 6_000].join(" or ");
    m.write(
        "terms.toml",
        format!("[records]\nkeep_if = \"{terms}\"\n[columns]\na = \"text\"\n").as_bytes(),
    );
    assert_eq!(m.run("check terms.toml").code, 2);
}

#[test]
fn an_export_of_a_table_is_told_when_it_comes_back() {
    for kind in [Kind::Sqlite, Kind::Postgres, Kind::MariaDb] {
        let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\n[target]\ntable = \"d\"\ncreate = true\n";
        let d = Database::new(
            kind,
            &[("d.csv", b"id\n1\n"), ("d.spec.toml", spec.as_bytes())],
        );
        assert_eq!(d.run("load d.spec.toml").code, 0);
        let said = d.run("export --table d -o out.csv --spec-out out.spec.toml");
        assert_eq!(said.code, 0, "{}", said.err);
        // Its spec names the database in a comment alone.
        let made = String::from_utf8(d.market.read("out.spec.toml")).unwrap();
        assert!(made.contains("# into  ="), "{made}");
        assert_eq!(d.market.run("load out.spec.toml").code, 2);
        let said = d.run("load out.spec.toml");
        assert!(
            said.out.contains("was exported from this table, in run"),
            "{}{}",
            said.out,
            said.err
        );
    }
}
