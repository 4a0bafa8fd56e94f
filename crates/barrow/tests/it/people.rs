//! What people meet who name the wrong thing: they are told what it is, and what to do.

use crate::databases::{Database, Kind};
use crate::market::Market;

const SPEC: &[u8] = b"[source]\nfiles = [\"sales.csv\"]\n[columns]\na = \"text\"\nb = \"text\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

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
            "load d.spec.toml --database sqlite:nodir/x.db",
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
        assert!(made.contains("# database  ="), "{made}");
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

#[test]
fn a_look_into_a_file_of_any_size_reads_its_start_alone() {
    let m = Market::with(&[("sales.csv", b"a,b\n1,2\n")]);
    // A file with a hole: to read all of it would take longer than anybody waits.
    let file = std::fs::File::options()
        .write(true)
        .open(m.path("sales.csv"));
    file.unwrap().set_len(1 << 40).unwrap();
    let said = m.run("peek sales.csv --records 2");
    assert!(
        said.out.contains("a,b\\n") && said.out.contains("1,2\\n"),
        "{}{}",
        said.out,
        said.err
    );
}

#[test]
fn reasons_beyond_those_that_are_kept_are_counted() {
    let spec = String::from_utf8(SPEC.to_vec()).unwrap();
    let spec = spec.replace("a = \"text\"", "a = \"integer\"");
    let mut file = String::from("a,b\n");
    (0..25).for_each(|n| file += &format!("x{n},{n}\n"));
    let m = Market::with(&[
        (
            "d.spec.toml",
            format!("{spec}[rejects]\nmax_rejects = 99\nkeep = 10\n").as_bytes(),
        ),
        ("sales.csv", file.as_bytes()),
    ]);
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(said.out.contains("lacks 15 reasons"), "{}", said.out);
    let folder = m.rejects();
    let reasons = String::from_utf8(m.read(&format!("{folder}/reasons.jsonl"))).unwrap();
    let last: serde_json::Value = serde_json::from_str(reasons.lines().last().unwrap()).unwrap();
    assert_eq!((reasons.lines().count(), &last["more"]), (11, &15.into()));
    // The records themselves are all there.
    let kept = String::from_utf8(m.read(&format!("{folder}/sales.csv"))).unwrap();
    assert_eq!(kept, file);
}

#[test]
fn a_wait_for_a_lock_is_said_and_can_be_set() {
    for kind in [Kind::Postgres, Kind::MariaDb] {
        let spec = String::from_utf8(SPEC.to_vec())
            .unwrap()
            .replace("database = \"sqlite:m.db\"\n", "");
        let d = Database::new(
            kind,
            &[
                ("sales.csv", b"a,b\n1,2\n"),
                ("d.spec.toml", spec.as_bytes()),
            ],
        );
        d.sql(&[
            "CREATE TABLE d (a VARCHAR(9), b VARCHAR(9))",
            "CREATE TABLE other (a INTEGER)",
        ]);
        let (hold, free): (&[&str], &str) = match kind {
            Kind::Postgres => (&["BEGIN", "LOCK TABLE d IN EXCLUSIVE MODE"], "COMMIT"),
            _ => (&["LOCK TABLES d WRITE"], "UNLOCK TABLES"),
        };
        d.sql(hold);
        let said = d.run("load d.spec.toml --lock-wait 2");
        d.sql(&[free]);
        assert_eq!(said.code, 1, "{}{}", said.out, said.err);
        assert!(
            said.err.contains("another session"),
            "{kind:?}: {}",
            said.err
        );
        assert!(
            kind == Kind::MariaDb || said.err.contains("waiting for another session"),
            "{}",
            said.err
        );
        let said = d.run("load d.spec.toml");
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    }
}
