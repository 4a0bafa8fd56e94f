//! What happens around the rows of a load: tables that are emptied, rows that stay, statements
//! before and after, several specs into one table. On all three databases.

use crate::databases::{Database, Kind};

const KINDS: [Kind; 3] = [Kind::Sqlite, Kind::Postgres, Kind::MariaDb];

fn spec(files: &str, target: &str) -> String {
    format!(
        "[source]\nfiles = [\"{files}\"]\n[columns]\nid = \"integer\"\nn = \"integer\"\n\
         [target]\ntable = \"d\"\n{target}\n"
    )
}

fn database(kind: Kind, specs: &[(&str, String)]) -> Database {
    let mut files: Vec<(&str, &[u8])> = vec![("a.csv", b"id,n\n1,1\n"), ("b.csv", b"id,n\n2,1\n")];
    files.extend(specs.iter().map(|(name, text)| (*name, text.as_bytes())));
    let d = Database::new(kind, &files);
    d.sql(&["CREATE TABLE d (id INTEGER, n INTEGER)"]);
    d
}

#[test]
fn a_table_that_several_specs_fill_is_emptied_once() {
    for kind in KINDS {
        for order in ["a b", "b a"] {
            let d = database(
                kind,
                &[
                    ("a.spec.toml", spec("a*.csv", "")),
                    ("b.spec.toml", spec("b*.csv", "mode = \"truncate\"")),
                ],
            );
            d.sql(&["INSERT INTO d VALUES (9, 9)"]);
            let words: Vec<String> = order.split(' ').map(|s| format!("{s}.spec.toml")).collect();
            let load = || d.run(&format!("load {} --report json", words.join(" ")));
            let said = load();
            assert_eq!(said.code, 0, "{kind:?} {order}: {}{}", said.out, said.err);
            assert_eq!(
                d.rows("SELECT id FROM d ORDER BY id"),
                ["1", "2"],
                "{kind:?} {order}"
            );
            // Nothing new: nothing is emptied.
            let said = load();
            assert_eq!(said.code, 0, "{}{}", said.out, said.err);
            assert_eq!(d.rows("SELECT id FROM d ORDER BY id"), ["1", "2"]);
            // One new file of the spec that empties: those of the other come again.
            d.market.write("b2.csv", b"id,n\n3,1\n");
            let said = load();
            assert_eq!(said.code, 0, "{kind:?} {order}: {}{}", said.out, said.err);
            let there = d.rows("SELECT id FROM d ORDER BY id");
            assert!(
                there.contains(&"1".into()) && there.contains(&"3".into()),
                "{there:?}"
            );
            let status = d.run("status a.spec.toml --report json");
            assert_eq!(
                status.json()["files"][0]["state"],
                "loaded",
                "{}",
                status.out
            );
        }
    }
}

#[test]
fn one_file_into_one_table_by_two_specs_is_told_before() {
    for kind in KINDS {
        let d = database(
            kind,
            &[
                ("a.spec.toml", spec("a.csv", "")),
                ("b.spec.toml", spec("a.csv", "")),
            ],
        );
        let said = d.run("load a.spec.toml b.spec.toml");
        assert_eq!(said.code, 2, "{}{}", said.out, said.err);
        assert!(
            said.err.contains("by both a.spec.toml and b.spec.toml"),
            "{}",
            said.err
        );
        assert_eq!(d.count("SELECT COUNT(*) FROM d"), 0);
    }
}

/// Keeps the rows of `d` where they are, whatever is deleted.
fn keep_rows(d: &Database) {
    match d.kind {
        Kind::Sqlite => {
            d.sql(&["CREATE TRIGGER stay BEFORE DELETE ON d BEGIN SELECT raise(ignore); END"])
        }
        Kind::Postgres => d.sql(&["CREATE RULE stay AS ON DELETE TO d DO INSTEAD NOTHING"]),
        Kind::MariaDb => {}
    }
}

#[test]
fn rows_that_the_database_keeps_are_not_told_as_gone() {
    for kind in [Kind::Sqlite, Kind::Postgres] {
        let column = "run_column = \"loaded_by\"";
        let d = database(
            kind,
            &[
                ("t.spec.toml", spec("b.csv", "mode = \"truncate\"")),
                ("a.spec.toml", spec("a.csv", column)),
                (
                    "r.spec.toml",
                    spec("a.csv", column)
                        .replace("[source]", "[source]\nwhen_changed = \"replace\""),
                ),
            ],
        );
        d.sql(&["ALTER TABLE d ADD COLUMN loaded_by VARCHAR(40)"]);
        let said = d.run("load a.spec.toml --report json");
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
        let run = said.json()["run"].as_str().expect("a run").to_string();
        keep_rows(&d);
        for words in [
            format!("undo {run}"),
            "load t.spec.toml".into(),
            "load t.spec.toml a.spec.toml".into(),
        ] {
            let said = d.run(&words);
            assert_eq!(said.code, 1, "{kind:?} {words}: {}{}", said.out, said.err);
            assert!(said.err.contains("still has 1"), "{words}: {}", said.err);
            assert_eq!(d.rows("SELECT id FROM d"), ["1"], "{words}");
        }
        d.market.write("a.csv", b"id,n\n1,5\n");
        let said = d.run("load r.spec.toml");
        assert_eq!(said.code, 1, "{kind:?}: {}{}", said.out, said.err);
        assert_eq!(d.rows("SELECT id, n FROM d"), ["1|1"]);
    }
    // A trigger of PostgreSQL's that returns null.
    let d = database(
        Kind::Postgres,
        &[("t.spec.toml", spec("b.csv", "mode = \"truncate\""))],
    );
    d.sql(&[
        "INSERT INTO d VALUES (1, 1)",
        "CREATE FUNCTION stay() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'",
        "CREATE TRIGGER stay BEFORE DELETE ON d FOR EACH ROW EXECUTE FUNCTION stay()",
    ]);
    let said = d.run("load t.spec.toml");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert_eq!(d.rows("SELECT id FROM d"), ["1"]);
}

#[test]
fn what_comes_after_a_replaced_table_finds_the_new_one() {
    for kind in [Kind::Sqlite, Kind::Postgres] {
        let target = "mode = \"replace\"\ncreate = true\nafter = [\"CREATE INDEX of_n ON d (n)\", \
                      \"INSERT INTO d SELECT 7, COUNT(*) FROM d\"]";
        let d = database(kind, &[("a.spec.toml", spec("a.csv", target))]);
        d.sql(&["INSERT INTO d VALUES (8, 8), (9, 9)"]);
        let said = d.run("load a.spec.toml --report json");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        assert_eq!(d.rows("SELECT id, n FROM d ORDER BY id"), ["1|1", "7|1"]);
        assert_eq!(said.json()["tables"][0]["rows_after"], 2, "{}", said.out);
        let indexes = d.each(
            "SELECT COUNT(*) FROM pragma_index_list('d')",
            "SELECT COUNT(*) FROM pg_indexes WHERE tablename = 'd'",
            "",
        );
        assert_eq!(d.count(indexes), 1, "{kind:?}");
    }
}

#[test]
fn a_statement_that_ends_the_transaction_is_refused() {
    for kind in KINDS {
        for end in [
            "COMMIT",
            "/* so */ COMMIT",
            "-- so\\nCOMMIT",
            "/* a */ -- b\\n /* c */ ROLLBACK",
            "SELECT 1; /* x */ END",
            "/*!50000 COMMIT */",
        ] {
            if end.contains("/*!") && kind != Kind::MariaDb {
                continue;
            }
            for key in ["before", "after"] {
                let d = database(
                    kind,
                    &[(
                        "a.spec.toml",
                        spec("a.csv", &format!("{key} = [\"{end}\"]")),
                    )],
                );
                let said = d.run("load a.spec.toml");
                let words = format!("{kind:?} {key} {end}: {}{}", said.out, said.err);
                assert_ne!(said.code, 0, "{words}");
                assert_eq!(d.count("SELECT COUNT(*) FROM d"), 0, "{words}");
            }
        }
    }
}

#[test]
fn what_a_server_still_owes_after_the_commit_is_run_by_the_next_load() {
    let after = "after = [\"INSERT INTO other VALUES (1)\"]";
    let d = database(Kind::MariaDb, &[("a.spec.toml", spec("a*.csv", after))]);
    let load = || d.run("load a.spec.toml");
    let said = load();
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert_eq!(d.count("SELECT COUNT(*) FROM d"), 1);
    // It is owed until it succeeds, with new files and without.
    for _ in 0..2 {
        let said = load();
        assert_eq!(said.code, 1, "{}{}", said.out, said.err);
        assert!(said.err.contains("still owes it"), "{}", said.err);
    }
    d.sql(&["CREATE TABLE other (id INTEGER)"]);
    let said = load();
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.count("SELECT COUNT(*) FROM other"), 1);
    assert_eq!(load().code, 0);
    assert_eq!(d.count("SELECT COUNT(*) FROM other"), 1);
    d.market.write("a2.csv", b"id,n\n5,5\n");
    assert_eq!(load().code, 0);
    assert_eq!(d.count("SELECT COUNT(*) FROM other"), 2);
    assert_eq!(d.count("SELECT COUNT(*) FROM d"), 2);
}

#[test]
fn names_that_the_server_would_cut_and_tables_of_a_session_are_refused() {
    let long = "n".repeat(65);
    for (kind, length, code) in [
        (Kind::Postgres, 64, 2),
        (Kind::MariaDb, 65, 2),
        (Kind::Sqlite, 65, 0),
    ] {
        let name = &long[..length];
        let text = spec("a.csv", "create = true")
            .replace(
                "n = \"integer\"",
                &format!("{name} = {{ type = \"integer\", from = \"n\" }}"),
            )
            .replace("\"d\"", "\"e\"");
        let d = database(kind, &[("a.spec.toml", text)]);
        for words in ["load a.spec.toml", "ddl a.spec.toml"] {
            let said = d.run(words);
            assert_eq!(
                said.code, code,
                "{kind:?} {words}: {}{}",
                said.out, said.err
            );
            assert_eq!(said.err.contains("is too long"), code != 0, "{}", said.err);
        }
    }
    let text = spec("a.csv", "create = true").replace("\"d\"", "\"pg_temp.e\"");
    let d = database(Kind::Postgres, &[("a.spec.toml", text)]);
    let said = d.run("load a.spec.toml");
    assert_eq!(said.code, 2, "{}{}", said.out, said.err);
    assert!(said.err.contains("temporary table"), "{}", said.err);
}

#[test]
fn the_settings_of_a_server_cut_no_export() {
    let d = database(Kind::Postgres, &[("a.spec.toml", spec("a.csv", ""))]);
    d.sql(&[
        "CREATE TABLE f (x DOUBLE PRECISION, d DATE, b BYTEA)",
        "INSERT INTO f VALUES (0.1::float8 + 0.2::float8, '2031-04-05', '\\x0aff')",
    ]);
    let name = d
        .url()
        .rsplit('/')
        .next()
        .unwrap_or_default()
        .split('?')
        .next()
        .unwrap_or_default()
        .to_string();
    d.sql(&[
        &format!("ALTER DATABASE {name} SET extra_float_digits = 0"),
        &format!("ALTER DATABASE {name} SET DateStyle = 'German'"),
        &format!("ALTER DATABASE {name} SET bytea_output = 'escape'"),
    ]);
    let said = d.run("export --table f -o -");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(
        said.out.contains("0.30000000000000004,2031-04-05,0aff"),
        "{}",
        said.out
    );
}

/// Tables that refer to `d`: rows that go with it, and theirs in turn; rows that lose a value.
fn with_children(d: &Database) {
    d.sql(&[
        "DROP TABLE d",
        "CREATE TABLE d (id INTEGER PRIMARY KEY, n INTEGER, loaded_by VARCHAR(40))",
        "CREATE TABLE child (id INTEGER PRIMARY KEY, d INTEGER, FOREIGN KEY (d) REFERENCES d (id) ON DELETE CASCADE)",
        "CREATE TABLE grandchild (child INTEGER, FOREIGN KEY (child) REFERENCES child (id) ON DELETE CASCADE)",
        "CREATE TABLE note (d INTEGER, FOREIGN KEY (d) REFERENCES d (id) ON DELETE SET NULL)",
    ]);
}

fn children(d: &Database) -> [u64; 3] {
    [
        d.count("SELECT COUNT(*) FROM child"),
        d.count("SELECT COUNT(*) FROM grandchild"),
        d.count("SELECT COUNT(*) FROM note WHERE d IS NOT NULL"),
    ]
}

#[test]
fn rows_of_other_tables_do_not_go_along_unasked() {
    for kind in KINDS {
        let column = "run_column = \"loaded_by\"";
        let truncate = "mode = \"truncate\"";
        let d = database(
            kind,
            &[
                ("a.spec.toml", spec("a.csv", column)),
                ("t.spec.toml", spec("b.csv", truncate)),
                (
                    "allow.spec.toml",
                    spec("b.csv", &format!("{truncate}\nwhen_cascading = \"allow\"")),
                ),
            ],
        );
        with_children(&d);
        let fill = [
            "INSERT INTO child VALUES (10, 1), (11, 1), (12, NULL)",
            "INSERT INTO grandchild VALUES (10), (10), (12)",
            "INSERT INTO note VALUES (1), (NULL)",
        ];
        let said = d.run("load a.spec.toml --report json");
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
        let run = said.json()["run"].as_str().expect("a run").to_string();
        d.sql(&fill);
        let before = children(&d);
        for (words, code) in [
            (format!("undo {run}"), 1),
            ("load t.spec.toml".into(), 1),
            ("load t.spec.toml a.spec.toml".into(), 1),
            ("check t.spec.toml".into(), 1),
            (format!("undo {run} --check"), 0),
        ] {
            let said = d.run(&words);
            let all = format!("{}{}", said.out, said.err);
            assert_eq!(said.code, code, "{kind:?} {words}: {all}");
            for lost in [
                "child: 2 rows deleted",
                "grandchild: 2 rows deleted",
                "note: 1 row emptied",
            ] {
                assert!(all.contains(lost), "{kind:?} {words}: {lost}\n{all}");
            }
            assert_eq!(children(&d), before, "{kind:?} {words}");
        }
        let said = d.run(&format!("undo {run} --cascade"));
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
        assert!(
            said.out.contains("grandchild: 2 rows deleted"),
            "{}",
            said.out
        );
        assert_eq!(children(&d), [1, 1, 0], "{kind:?}");
        // Nothing refers to what goes: nothing needs to be allowed.
        let said = d.run("load t.spec.toml");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        d.sql(&["INSERT INTO child VALUES (20, 2)"]);
        d.market.write("b.csv", b"id,n\n2,7\n");
        let said = d.run("load allow.spec.toml");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        assert!(
            said.out
                .contains("child: 1 row deleted along a foreign key"),
            "{}",
            said.out
        );
    }
}

#[test]
fn a_replaced_table_of_sqlite_takes_nothing_along_unasked() {
    let replace = "mode = \"replace\"\ncreate = true";
    let d = database(Kind::Sqlite, &[("r.spec.toml", spec("b.csv", replace))]);
    with_children(&d);
    d.sql(&[
        "INSERT INTO d VALUES (1, 1, NULL)",
        "INSERT INTO child VALUES (10, 1)",
    ]);
    let said = d.run("load r.spec.toml");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(said.err.contains("child: 1 row deleted"), "{}", said.err);
    assert_eq!(children(&d)[0], 1);
}

#[test]
fn several_specs_are_loaded_in_the_order_of_the_tables_own_foreign_keys() {
    for kind in KINDS {
        let child = "[source]\nfiles = [\"c.csv\"]\n[columns]\nid = \"integer\"\nd = \"integer\"\n\
                     [target]\ntable = \"child\"\nmode = \"truncate\"\n";
        let d = database(
            kind,
            &[
                ("c.spec.toml", child.into()),
                ("d.spec.toml", spec("a.csv", "mode = \"truncate\"")),
                ("c.csv", "id,d\n7,1\n".into()),
            ],
        );
        d.sql(&[
            "DROP TABLE d",
            "CREATE TABLE d (id INTEGER PRIMARY KEY, n INTEGER)",
            "CREATE TABLE child (id INTEGER, d INTEGER, FOREIGN KEY (d) REFERENCES d (id))",
        ]);
        for again in ["", " --again"] {
            let said = d.run(&format!("load c.spec.toml d.spec.toml{again}"));
            assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
            assert_eq!(d.rows("SELECT d FROM child"), ["1"]);
        }
    }
}

#[test]
fn tables_that_refer_to_each_other_are_loaded_in_the_order_given() {
    let one = "[source]\nfiles = [\"a.csv\"]\n[columns]\nid = \"integer\"\nn = \"integer\"\n\
               [target]\ntable = \"one\"\n";
    let d = database(
        Kind::Sqlite,
        &[
            ("one.spec.toml", one.into()),
            ("d.spec.toml", spec("b.csv", "")),
        ],
    );
    d.sql(&[
        "DROP TABLE d",
        "CREATE TABLE d (id INTEGER PRIMARY KEY, n INTEGER REFERENCES one (id))",
        "CREATE TABLE one (id INTEGER PRIMARY KEY, n INTEGER REFERENCES d (id) DEFERRABLE INITIALLY DEFERRED)",
        "INSERT INTO d VALUES (1, NULL)",
    ]);
    let said = d.run("load one.spec.toml d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
}

#[test]
fn rejects_of_several_specs_that_were_rolled_back_are_mended() {
    for kind in KINDS {
        let limit = "[rejects]\nmax_rejects = 1\n";
        let d = database(
            kind,
            &[
                ("a.spec.toml", spec("a.csv", "") + limit),
                ("b.spec.toml", spec("b.csv", "")),
            ],
        );
        d.market.write("a.csv", b"id,n\n1,1\n2,x\n3,3\n");
        d.market.write("b.csv", b"id,n\n4,4\n5,y\n");
        let said = d.run("load a.spec.toml b.spec.toml --report json");
        assert_eq!(said.code, 3, "{kind:?}: {}{}", said.out, said.err);
        assert_eq!(d.count("SELECT COUNT(*) FROM d"), 0);
        let loads = said.json()["loads"].clone();
        for (place, corrected) in [(0, "2"), (1, "5")] {
            let run = loads[place]["run"].as_str().expect("a run");
            let file = ["a", "b"][place];
            let path = format!("rejects/{run}/{file}.csv");
            let text = String::from_utf8(d.market.read(&path)).expect("text");
            d.market
                .write(&path, text.replace(['x', 'y'], corrected).as_bytes());
            let said = d.run(&format!("mend {run}"));
            assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        }
        let there = d.rows("SELECT id FROM d ORDER BY id");
        assert_eq!(there, ["1", "2", "3", "4", "5"], "{kind:?}");
        let said = d.run("load a.spec.toml b.spec.toml");
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
        assert_eq!(d.count("SELECT COUNT(*) FROM d"), 5, "{kind:?}");
    }
}

/// As the guide's table says.
#[test]
fn statements_work_on_the_table_that_the_guide_says() {
    for kind in KINDS {
        for mode in ["append", "truncate", "replace"] {
            let create = format!("mode = \"{mode}\"\ncreate = true");
            let around = format!(
                "{create}\nbefore = [\"INSERT INTO d VALUES (8, 8)\"]\nafter = [\"INSERT INTO d VALUES (9, 9)\"]"
            );
            let d = database(
                kind,
                &[
                    ("s.spec.toml", spec("a.csv", &create)),
                    ("around.spec.toml", spec("a.csv", &around)),
                ],
            );
            let said = d.run("load s.spec.toml");
            assert_eq!(said.code, 0, "{}{}", said.out, said.err);
            let said = d.run("load around.spec.toml --again");
            assert_eq!(said.code, 0, "{}{}", said.out, said.err);
            let expected: &[&str] = match (mode, kind) {
                ("append", _) => &["1", "1", "8", "9"],
                ("truncate", Kind::MariaDb) | ("replace", Kind::Postgres | Kind::MariaDb) => {
                    &["1", "9"]
                }
                _ => &["1", "8", "9"],
            };
            let there = d.rows("SELECT id FROM d ORDER BY id");
            assert_eq!(there, expected, "{kind:?} {mode}");
        }
    }
}

#[test]
fn a_table_that_others_refer_to_is_not_replaced_and_a_check_says_so() {
    for kind in [Kind::Postgres, Kind::MariaDb] {
        let replace = "mode = \"replace\"\ncreate = true";
        let d = database(kind, &[("r.spec.toml", spec("b.csv", replace))]);
        with_children(&d);
        for words in ["load r.spec.toml", "check r.spec.toml"] {
            let said = d.run(words);
            let all = format!("{}{}", said.out, said.err);
            assert_ne!(said.code, 0, "{kind:?} {words}: {all}");
            assert!(all.contains("which would then be gone"), "{words}: {all}");
            assert!(all.contains("has a foreign key to d"), "{words}: {all}");
        }
    }
}

#[test]
fn rows_that_a_load_deletes_itself_are_no_loss() {
    for kind in KINDS {
        let child = "[source]\nfiles = [\"c.csv\"]\n[columns]\nid = \"integer\"\nd = \"integer\"\n\
                     [target]\ntable = \"child\"\nmode = \"truncate\"\n";
        let family = "[source]\nfiles = [\"f.csv\"]\n[records]\nheader = \"none\"\n\
                      [[record_type]]\nname = \"d\"\nif = \"field(1) = 'd'\"\ntable = \"d\"\n\
                      [record_type.columns]\nwhat = { type = \"text\", load = false }\n\
                      id = \"integer\"\nn = \"integer\"\n\
                      [[record_type]]\nname = \"child\"\nif = \"field(1) = 'c'\"\ntable = \"child\"\n\
                      [record_type.columns]\nwhat = { type = \"text\", load = false }\n\
                      id = \"integer\"\nn = \"integer\"\n[target]\nmode = \"truncate\"\n";
        let d = database(
            kind,
            &[
                ("c.spec.toml", child.into()),
                ("d.spec.toml", spec("a.csv", "mode = \"truncate\"")),
                ("c.csv", "id,d\n7,1\n".into()),
                ("f.spec.toml", family.into()),
                ("f.csv", "d,1,1\nc,7,1\n".into()),
            ],
        );
        d.sql(&[
            "DROP TABLE d",
            "CREATE TABLE d (id INTEGER PRIMARY KEY, n INTEGER)",
            "CREATE TABLE child (id INTEGER, n INTEGER, d INTEGER, FOREIGN KEY (d) REFERENCES d (id) ON DELETE CASCADE)",
            "INSERT INTO d VALUES (1, 1)",
            "INSERT INTO child VALUES (7, 1, 1)",
        ]);
        let said = d.run("load d.spec.toml c.spec.toml");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        let said = d.run("check f.spec.toml");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        let said = d.run("load f.spec.toml");
        assert_eq!(said.code, 0, "{kind:?}: {}{}", said.out, said.err);
        assert_eq!(d.rows("SELECT id FROM child"), ["7"], "{kind:?}");
    }
}

#[test]
fn a_check_says_what_the_rows_of_earlier_content_take_along() {
    for kind in KINDS {
        let text = spec("a.csv", "run_column = \"loaded_by\"").replace(
            "files = [\"a.csv\"]",
            "files = [\"a.csv\"]\nwhen_changed = \"replace\"",
        );
        let d = database(kind, &[("a.spec.toml", text)]);
        with_children(&d);
        assert_eq!(d.run("load a.spec.toml").code, 0);
        d.sql(&["INSERT INTO child VALUES (10, 1)"]);
        d.market.write("a.csv", b"id,n\n1,2\n");
        for words in ["check a.spec.toml", "load a.spec.toml"] {
            let said = d.run(words);
            let all = format!("{}{}", said.out, said.err);
            assert_eq!(said.code, 1, "{kind:?} {words}: {all}");
            assert!(all.contains("child: 1 row deleted"), "{words}: {all}");
        }
        assert_eq!(d.count("SELECT COUNT(*) FROM child"), 1);
    }
}

#[test]
fn addresses_that_differ_in_settings_are_one_database() {
    let d = database(
        Kind::Postgres,
        &[
            ("a.spec.toml", spec("a.csv", "")),
            ("b.spec.toml", spec("b.csv", "")),
        ],
    );
    let address = d.url().to_string();
    let sign = if address.contains('?') { '&' } else { '?' };
    for (name, file, address) in [
        ("a.spec.toml", "a.csv", address.clone()),
        (
            "b.spec.toml",
            "b.csv",
            format!("{address}{sign}connect_timeout=9"),
        ),
    ] {
        let target = format!("database = \"{address}\"");
        d.market.write(name, spec(file, &target).as_bytes());
    }
    let said = d.market.run("load a.spec.toml b.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
}
