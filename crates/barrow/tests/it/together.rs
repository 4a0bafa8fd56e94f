//! Several specs at once: drafted from a folder of files, and loaded in one transaction, all
//! or none. The same cases on every kind of database.

use std::fmt::Write as _;

use crate::databases::{Database, Kind, on_every_database};
use crate::market::{Market, said};

on_every_database! {
    a_folder_of_tables_is_drafted_and_loaded_in_two_commands,
    one_table_beyond_its_limit_takes_all_back,
    tables_that_refer_to_each_other_are_emptied_and_filled_in_order,
    sql_runs_before_and_after_the_rows,
    a_table_is_emptied_by_the_servers_own_statement,
}

/// A market of many tables that refer to each other, in files.
fn files(tables: usize) -> Vec<(String, String)> {
    let mut files = vec![
        (
            "stalls.csv".to_string(),
            (1..=40).fold("stall_id,row,keeper\n".to_string(), |mut text, n| {
                let _ = writeln!(text, "{n},{},Keeper {n}", (b'A' + (n % 5) as u8) as char);
                text
            }),
        ),
        (
            "crops.csv".to_string(),
            "code,crop\nKA,kale\nLE,leeks\nBE,beans\nCA,carrots\n".to_string(),
        ),
        (
            "orders.csv".to_string(),
            (1..=200).fold("id,stall_id,ordered_on\n".to_string(), |mut text, n| {
                let _ = writeln!(text, "{n},{},2031-04-{:02}", n % 40 + 1, n % 28 + 1);
                text
            }),
        ),
        (
            "order_lines.csv".to_string(),
            (1..=600).fold(
                "order_id,line_no,crop_code,kg\n".to_string(),
                |mut text, n| {
                    let crop = ["KA", "LE", "BE", "CA"][n / 2 % 4];
                    let _ = writeln!(text, "{},{},{crop},{}.5", n.div_ceil(3), n % 3 + 1, n % 17);
                    text
                },
            ),
        ),
    ];
    for number in 0..tables.saturating_sub(files.len()) {
        // Each refers to a stall, and to the table before it.
        let name = format!("fair{}", (b'a' + number as u8) as char);
        let before = format!("fair{}", (b'a' + number.saturating_sub(1) as u8) as char);
        let mut text = match number {
            0 => format!("{name}_id,stall_id\n"),
            _ => format!("{name}_id,stall_id,{before}_id\n"),
        };
        for n in 1..=30 {
            let _ = match number {
                0 => writeln!(text, "{},{}", n * 7, n % 40 + 1),
                // Here and there one refers to nothing.
                _ if n % 10 == 0 => writeln!(text, "{},{},", n * 7, n % 40 + 1),
                _ => writeln!(text, "{},{},{}", n * 7, n % 40 + 1, n * 7),
            };
        }
        files.push((format!("{name}.csv"), text));
    }
    files
}

fn a_folder_of_tables_is_drafted_and_loaded_in_two_commands(kind: Kind) {
    let files = files(27);
    let given: Vec<(&str, &[u8])> = files
        .iter()
        .map(|(name, text)| (name.as_str(), text.as_bytes()))
        .collect();
    let d = Database::new(kind, &given);
    // A spec has no password, and the MariaDB of the tests wants one.
    let words = "draft --each *.csv -o specs";
    let drafted = match kind {
        Kind::MariaDb => d.market.run(words),
        _ => d.run(words),
    };
    assert_eq!(drafted.code, 0, "{}{}", drafted.out, drafted.err);
    // Of stalls: orders and 23 fairs. Of orders and crops: the lines. Of fairs: 22.
    assert!(
        drafted.out.contains("27 specs") && drafted.out.contains("48 foreign keys"),
        "{}",
        drafted.out
    );
    let lines = String::from_utf8(d.market.read("specs/order_lines.spec.toml")).expect("UTF-8");
    assert!(
        lines.contains("key = [\"order_id\", \"line_no\"]"),
        "{lines}"
    );
    let specs: Vec<String> = files
        .iter()
        .map(|(name, _)| format!("specs/{}", name.replace(".csv", ".spec.toml")))
        .collect();
    let loaded = d.run(&format!("load {}", specs.join(" ")));
    assert_eq!(loaded.code, 0, "{}{}", loaded.out, loaded.err);
    for (name, text) in &files {
        let table = name.replace(".csv", "");
        let rows = text.lines().count() as u64 - 1;
        assert_eq!(
            d.count(&format!("SELECT count(*) FROM {table}")),
            rows,
            "{table}"
        );
    }
    // The keys hold from now on.
    let refused = d.run("load specs/order_lines.spec.toml --again --max-rejects 100%");
    assert!(refused.out.contains("rejected  600"), "{}", refused.out);
    let again = d.run(&format!("load {}", specs.join(" ")));
    assert!(
        again.code == 0 && again.out.contains("nothing new"),
        "{}",
        again.out
    );
    assert_eq!(again.out.lines().count(), 1, "{}", again.out);
}

const GROWERS: &str = "[source]\nfiles = [\"g.csv\"]\n[columns]\n\
    name = { type = \"varchar(20)\", required = true }\n[target]\ntable = \"growers\"\n\
    key = [\"name\"]\ncreate = true\n";

const BOXES: &str = "[source]\nfiles = [\"b.csv\"]\n[columns]\n\
    id = { type = \"integer\", required = true }\ngrower = \"varchar(20)\"\n[target]\n\
    table = \"boxes\"\nkey = [\"id\"]\ncreate = true\n[[references]]\ncolumns = [\"grower\"]\n\
    table = \"growers\"\nto = [\"name\"]\n";

fn pair(kind: Kind) -> Database {
    Database::new(
        kind,
        &[
            ("g.spec.toml", GROWERS.as_bytes()),
            ("b.spec.toml", BOXES.as_bytes()),
            ("g.csv", b"name\nAda\nBram\n"),
            ("b.csv", b"id,grower\n1,Ada\n2,Bram\n3,Zoe\n"),
        ],
    )
}

fn one_table_beyond_its_limit_takes_all_back(kind: Kind) {
    let d = pair(kind);
    // A row of each is wrong: both are told.
    d.market.write(
        "g.csv",
        b"name\nAda\nBram\nMoor of the long name, the elder\n",
    );
    let said = d.run("load b.spec.toml g.spec.toml");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    assert!(
        said.out.contains("rolled back") && said.out.contains("growers has more rejects"),
        "{}",
        said.out
    );
    assert!(
        said.out.matches("why rejected").count() == 2,
        "{}",
        said.out
    );
    // Nothing is there, not even the tables that were made.
    let made = d.run("load b.spec.toml b.csv --max-rejects 1");
    assert_ne!(
        made.code, 0,
        "the table that it refers to is not there\n{}",
        made.out
    );
    // The ledger of a server says what became of both.
    if kind != Kind::Sqlite {
        let ledger = d.run("ledger --report json").json();
        let outcomes: Vec<&str> = ledger["runs"]
            .as_array()
            .expect("runs")
            .iter()
            .filter_map(|run| run["outcome"].as_str())
            .collect();
        assert_eq!(
            outcomes,
            ["failed", "rolled back", "rolled back"],
            "{ledger}"
        );
    }
    d.market.write("g.csv", b"name\nAda\nBram\nZoe\n");
    let said = d.run("load b.spec.toml g.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(
        d.rows("SELECT id, grower FROM boxes ORDER BY id"),
        ["1|Ada", "2|Bram", "3|Zoe"]
    );
    // A limit that allows it keeps the others.
    d.market.write("b2.csv", b"id,grower\n4,Nobody\n5,Ada\n");
    d.market
        .write("b.spec.toml", BOXES.replace("b.csv", "b2.csv").as_bytes());
    d.market.write("g.csv", b"name\nMoor\n");
    d.market.write(
        "g.spec.toml",
        GROWERS
            .replace("[source]\n", "[source]\nwhen_changed = \"load\"\n")
            .as_bytes(),
    );
    let said = d.run("load b.spec.toml g.spec.toml --max-rejects 1");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.count("SELECT count(*) FROM boxes"), 4);
    assert_eq!(d.count("SELECT count(*) FROM growers"), 4);
    // A spec that cannot be loaded at all takes the others with it.
    d.market.write("g.csv", b"name\nHollow\n");
    d.market.write("b2.csv", b"id,other\n7,x\n");
    let broken = BOXES
        .replace("b.csv", "b2.csv")
        .replace("[source]\n", "[source]\nwhen_changed = \"load\"\n");
    d.market.write("b.spec.toml", broken.as_bytes());
    let said = d.run("load b.spec.toml g.spec.toml");
    assert_ne!(said.code, 0, "{}", said.out);
    assert!(
        said.err.contains("nothing of the 2 specs was committed"),
        "{}",
        said.err
    );
    assert_eq!(d.count("SELECT count(*) FROM growers"), 4);
}

fn tables_that_refer_to_each_other_are_emptied_and_filled_in_order(kind: Kind) {
    let d = pair(kind);
    d.market.write("b.csv", b"id,grower\n1,Ada\n2,Bram\n");
    assert_eq!(d.run("load b.spec.toml g.spec.toml").code, 0);
    d.market.write("g.csv", b"name\nZoe\n");
    d.market.write("b.csv", b"id,grower\n9,Zoe\n");
    let said = d.run("load b.spec.toml g.spec.toml --mode truncate --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.rows("SELECT id, grower FROM boxes"), ["9|Zoe"]);
    let loads = said.json()["loads"].clone();
    assert_eq!(loads[0]["tables"][0]["rows_before"], 2, "{loads}");
    assert_eq!(loads[1]["tables"][0]["rows_before"], 2, "{loads}");
    // What would leave a table empty takes the others back.
    d.market.write("b.csv", b"id,grower\n");
    d.market.write("g.csv", b"name\nMoor\n");
    let said = d.run("load b.spec.toml g.spec.toml --mode truncate");
    assert_ne!(said.code, 0, "{}", said.out);
    assert_eq!(d.rows("SELECT id, grower FROM boxes"), ["9|Zoe"]);
}

fn sql_runs_before_and_after_the_rows(kind: Kind) {
    let d = pair(kind);
    let spec = GROWERS.to_string()
        + "before = [\"DELETE FROM growers WHERE name = 'Ada'\"]\n\
           after = [\"UPDATE growers SET name = upper(name) WHERE name = 'Bram'\"]\n";
    d.sql(&[
        "CREATE TABLE growers (name VARCHAR(20) NOT NULL PRIMARY KEY)",
        "INSERT INTO growers VALUES ('Ada')",
    ]);
    d.market.write("g.spec.toml", spec.as_bytes());
    let said = d.run("load g.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(
        d.rows("SELECT name FROM growers ORDER BY name"),
        ["Ada", "BRAM"]
    );
    // What fails takes the rows back, where the database can; where not, it is said.
    d.market.write("h.csv", b"name\nMoor\n");
    let broken = spec
        .replace("UPDATE growers", "UPDATE nothing")
        .replace("g.csv", "h.csv");
    d.market.write("g.spec.toml", broken.as_bytes());
    let said = d.run("load g.spec.toml");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    let words = format!("{}{}", said.out, said.err);
    assert!(words.contains("[target] after"), "{words}");
    let left = d.each(["Ada", "BRAM"], ["Ada", "BRAM"], ["BRAM", "Moor"]);
    assert_eq!(d.rows("SELECT name FROM growers ORDER BY name"), left);
}

#[test]
fn what_cannot_be_one_transaction_is_refused() {
    let m = Market::with(&[("g.csv", b"name\nAda\n"), ("b.csv", b"id,grower\n1,Ada\n")]);
    let case = |growers: &str, boxes: &str, words: &str| {
        m.write("g.spec.toml", growers.as_bytes());
        m.write("b.spec.toml", boxes.as_bytes());
        let said = m.run(&format!("load g.spec.toml b.spec.toml {words}"));
        assert_eq!(said.code, 2, "{words}\n{}{}", said.out, said.err);
        assert!(
            !m.path("m.db").exists() && !m.path("n.db").exists(),
            "{words}"
        );
        said.err
    };
    let with =
        |spec: &str, key: &str| spec.replace("create = true\n", &format!("create = true\n{key}\n"));
    let one = |spec: &str| with(spec, "database = \"sqlite:m.db\"");
    let circle = with(GROWERS, "database = \"sqlite:m.db\"")
        + "[[references]]\ncolumns = [\"name\"]\ntable = \"boxes\"\nto = [\"grower\"]\n";
    assert!(case(&circle, &one(BOXES), "").contains("in a circle"));
    let other = with(BOXES, "database = \"sqlite:n.db\"");
    assert!(case(&one(GROWERS), &other, "").contains("one database"));
    let going = with(&one(GROWERS), "commit_every = 10");
    assert!(case(&going, &one(BOXES), "").contains("commits as it goes"));
    for words in ["g.csv", "--table x", "--share"] {
        case(&one(GROWERS), &one(BOXES), words);
    }
    for sql in ["ANALYZE; commit", "END;", "ABORT", " begin"] {
        let ends = with(&one(GROWERS), &format!("after = [\"{sql}\"]"));
        assert!(
            case(&ends, &one(BOXES), "").contains("the load's own transaction"),
            "{sql}"
        );
    }
    let lacks = one(BOXES).replace("columns = [\"grower\"]", "columns = [\"growr\"]");
    assert!(case(&one(GROWERS), &lacks, "").contains("grower"));
}

#[test]
fn a_file_that_is_no_table_is_told_and_the_others_are_drafted() {
    let m = Market::with(&[("a.csv", b"id,crop\n1,kale\n2,leek\n"), ("b.csv", b"")]);
    let said = m.run("draft --each a.csv b.csv -o specs");
    assert_eq!(said.code, 1, "{}", said.out);
    assert!(said.err.contains("b.csv: no spec"), "{}", said.err);
    assert!(m.path("specs/a.spec.toml").exists());
    let said = m.run("draft --each a.csv -o specs");
    assert_eq!(said.code, 2, "{}", said.err);
    let mut ddl = m.command("ddl specs/a.spec.toml --for postgres");
    ddl.arg("specs/a.spec.toml");
    assert_eq!(said_code(ddl), 0);
}

fn said_code(command: std::process::Command) -> i32 {
    said(command).code
}

#[test]
fn tables_refer_to_a_key_of_several_columns_by_longer_names_too() {
    // Rows are told apart by year and stall, and by year and keeper: others have the former.
    let mut stalls = String::from("year,stall_id,keeper_id,city\n");
    let (mut takings, mut rivals) = (
        String::from("year,stall_id,day,sum\n"),
        String::from("year,round,winner_stall_id,loser_stall_id\n"),
    );
    for year in 2027..2031 {
        for stall in 0..8 {
            let keeper = (stall * 3 + year) % 8;
            stalls += &format!("{year},s{stall},k{keeper},Tansy\n");
            takings += &format!("{year},s{stall},mon,{}\n", stall * 7);
            takings += &format!("{year},s{stall},tue,{}\n", year - stall);
        }
        for round in 1..4 {
            rivals += &format!("{year},{round},s{round},s{}\n", 7 - round);
        }
    }
    // One stall that was not there in that year.
    let lost = rivals.replace("2029,2,s2,s5", "2029,2,s2,s9");
    let m = Market::with(&[
        ("stalls.csv", stalls.as_bytes()),
        ("takings.csv", takings.as_bytes()),
        ("rivals.csv", lost.as_bytes()),
    ]);
    let said = m.run("draft --each takings.csv rivals.csv stalls.csv -o specs");
    assert_eq!(said.code, 0, "{}", said.err);
    let read = |name: &str| String::from_utf8(m.read(name)).expect("UTF-8");
    assert!(read("specs/stalls.spec.toml").contains("key = [\"year\", \"stall_id\"]"));
    let reference = |columns: &str| {
        format!("columns = [{columns}]\ntable = \"stalls\"\nto = [\"year\", \"stall_id\"]")
    };
    let takings = read("specs/takings.spec.toml");
    assert!(
        takings.contains(&reference("\"year\", \"stall_id\"")),
        "{takings}"
    );
    let rivals = read("specs/rivals.spec.toml");
    assert!(
        rivals.contains(&reference("\"year\", \"winner_stall_id\"")),
        "{rivals}"
    );
    assert_eq!(rivals.matches("[[references]]").count(), 1, "{rivals}");
    let said = m.run("load specs/takings.spec.toml specs/rivals.spec.toml specs/stalls.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
}

#[test]
fn what_the_names_of_tables_have_in_common_does_not_hide_what_refers_to_them() {
    let m = Market::with(&[
        ("tbl_Growers_2031.csv", b"Id,Name\n1,Ada\n2,Ivy\n3,Zoe\n"),
        ("tbl_Crops_2031.csv", b"Id,Name\n1,kale\n2,leek\n"),
        (
            "tbl_Boxes_2031.csv",
            b"Id,GrowerId,CropId,Kg\n1,3,1,2.5\n2,1,2,4.0\n3,3,2,1.5\n",
        ),
    ]);
    let said =
        m.run("draft --each tbl_Growers_2031.csv tbl_Crops_2031.csv tbl_Boxes_2031.csv -o specs");
    assert_eq!(said.code, 0, "{}", said.err);
    let text = String::from_utf8(m.read("specs/tbl_boxes_2031.spec.toml")).expect("UTF-8");
    for (column, table) in [("growerid", "growers"), ("cropid", "crops")] {
        let wanted =
            format!("columns = [\"{column}\"]\ntable = \"tbl_{table}_2031\"\nto = [\"id\"]");
        assert!(text.contains(&wanted), "{text}");
    }
}

#[test]
fn a_reference_to_its_own_table_needs_its_rows_in_order() {
    let m = Market::with(&[
        (
            "keepers.csv",
            b"keeper_id,name,manager_id\n1,Ada,\n2,Bram,1\n3,Zoe,2\n",
        ),
        (
            "carts.csv",
            b"cart_id,name,parent_cart_id\n1,a,2\n2,b,\n3,c,1\n",
        ),
    ]);
    let said = m.run("draft --each keepers.csv carts.csv -o specs");
    assert_eq!(said.code, 0, "{}", said.err);
    let read = |name: &str| String::from_utf8(m.read(name)).expect("UTF-8");
    let keepers = read("specs/keepers.spec.toml");
    assert!(
        keepers.contains("columns = [\"manager_id\"]\ntable = \"keepers\""),
        "{keepers}"
    );
    let carts = read("specs/carts.spec.toml");
    assert!(
        !carts.contains("[[references]]") && carts.contains("# perhaps parent_cart_id"),
        "{carts}"
    );
    let said = m.run("load specs/keepers.spec.toml specs/carts.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
}

fn a_table_is_emptied_by_the_servers_own_statement(kind: Kind) {
    let d = pair(kind);
    let spec = GROWERS.replace(
        "create = true",
        "create = true\nmode = \"truncate\"\nempty_with = \"truncate\"",
    );
    d.market.write("g.spec.toml", spec.as_bytes());
    d.sql(&[
        "CREATE TABLE growers (name VARCHAR(20) NOT NULL PRIMARY KEY)",
        "INSERT INTO growers VALUES ('Old')",
    ]);
    let said = d.run("load g.spec.toml");
    if kind == Kind::MariaDb {
        assert!(
            said.code == 2 && said.err.contains("TRUNCATE at once"),
            "{}",
            said.err
        );
        assert_eq!(d.rows("SELECT name FROM growers"), ["Old"]);
        d.market.write(
            "g.spec.toml",
            spec.replace("mode =", "commit_every = 10\nmode =")
                .as_bytes(),
        );
        assert_eq!(d.run("load g.spec.toml").code, 0);
    } else {
        assert_eq!(said.code, 0, "{}", said.err);
    }
    assert_eq!(
        d.rows("SELECT name FROM growers ORDER BY name"),
        ["Ada", "Bram"]
    );
    // A load that is rolled back leaves them.
    if kind != Kind::MariaDb {
        d.market
            .write("g.csv", b"name\nMoor of the long name, the elder\n");
        assert_ne!(d.run("load g.spec.toml --again").code, 0);
        assert_eq!(
            d.rows("SELECT name FROM growers ORDER BY name"),
            ["Ada", "Bram"]
        );
    }
}

#[test]
fn a_quiet_load_says_nothing_unless_something_is_wrong() {
    let m = Market::with(&[
        ("g.spec.toml", GROWERS.as_bytes()),
        ("g.csv", b"name\nAda\n"),
        ("h.csv", b"name\nMoor of the long name, the elder\nZoe\n"),
    ]);
    let fine = m.run("load g.spec.toml -q --database sqlite:m.db");
    assert_eq!(
        (fine.code, fine.out.as_str(), fine.err.as_str()),
        (0, "", "")
    );
    let again = m.run("load g.spec.toml -q --database sqlite:m.db");
    assert_eq!(
        (again.code, again.out.as_str(), again.err.as_str()),
        (0, "", "")
    );
    let within = m.run("load g.spec.toml h.csv -q --max-rejects 1 --database sqlite:m.db");
    assert!(
        within.code == 0 && within.out.contains("rejected"),
        "{}",
        within.out
    );
    let mut command = m.command("ledger");
    command.env("BARROW_DATABASE", "sqlite:m.db");
    let ledger = said(command);
    assert!(
        ledger.code == 0 && ledger.out.contains("growers"),
        "{}{}",
        ledger.out,
        ledger.err
    );
    assert!(ledger.err.contains("BARROW_DATABASE"), "{}", ledger.err);
    // It wins over the spec, and the command line over both.
    let mut command = m.command("load g.spec.toml --again");
    command.env("BARROW_DATABASE", "sqlite:other.db");
    let other = said(command);
    assert!(
        other.code == 0 && other.out.contains("sqlite:other.db"),
        "{}{}",
        other.out,
        other.err
    );
}

#[test]
fn what_each_of_several_specs_repairs_and_leaves_out_is_told() {
    let m = Market::with(&[
        ("g.csv", b"name\n Ada \nBram\n"),
        ("b.csv", b"id,grower,row\n1,Ada,A\n2,Bram,B\n2,Bram,C\n"),
    ]);
    let growers = GROWERS.replace(
        "required = true",
        "required = true, trim = \"both\", case = \"upper\"",
    );
    let boxes = BOXES
        .replace(
            "[columns]",
            "[records]\nkeep_if = \"id > 1\"\nwhen_new_column = \"ignore\"\n[columns]",
        )
        .replace(
            "[[references]]\ncolumns = [\"grower\"]\ntable = \"growers\"\nto = [\"name\"]\n",
            "",
        )
        .replace("create = true", "create = true\nmode = \"merge\"");
    m.write("g.spec.toml", growers.as_bytes());
    m.write("b.spec.toml", boxes.as_bytes());
    let said = m.run("load g.spec.toml b.spec.toml --database sqlite:m.db");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    for words in [
        "what was repaired",
        "filtered",
        "does not name",
        "merged: 1 new, 0 changed, 1 the same",
    ] {
        assert!(said.out.contains(words), "{words}\n{}", said.out);
    }
    // 5 records: 2 and 2 loaded, 1 filtered.
    let all = said
        .out
        .lines()
        .find(|line| line.trim_start().starts_with("all"))
        .unwrap_or("");
    let counts: Vec<&str> = all.split_whitespace().skip(1).collect();
    assert_eq!(counts, ["2", "5", "4", "0", "1"], "{}", said.out);
}

#[test]
fn a_commit_that_is_refused_is_in_the_ledger() {
    let m = Market::with(&[
        ("g.spec.toml", GROWERS.as_bytes()),
        ("b.spec.toml", BOXES.as_bytes()),
        ("g.csv", b"name\nAda\n"),
        ("b.csv", b"id,grower\n1,Nobody\n"),
    ]);
    m.sql(
        "CREATE TABLE growers (name VARCHAR(20) PRIMARY KEY); CREATE TABLE boxes (id INTEGER, \
         grower VARCHAR(20) REFERENCES growers (name) DEFERRABLE INITIALLY DEFERRED); CREATE TABLE t (a)",
    );
    // The ledger is there before.
    m.write(
        "t.spec.toml",
        b"[source]\nfiles = [\"t.csv\"]\n[columns]\na = \"text\"\n[target]\ntable = \"t\"\n",
    );
    m.write("t.csv", b"a\nx\n");
    assert_eq!(m.run("load t.spec.toml --database sqlite:m.db").code, 0);
    let said = m.run("load g.spec.toml b.spec.toml --database sqlite:m.db");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(
        said.err.contains("nothing of the 2 specs was committed"),
        "{}",
        said.err
    );
    assert_eq!(m.count("SELECT count(*) FROM growers"), 0);
    assert_eq!(
        m.count("SELECT count(*) FROM barrow_runs WHERE outcome = 'rolled back'"),
        2
    );
}

#[test]
fn names_of_files_are_written_as_they_are_and_rows_of_several_files_have_no_order() {
    let m = Market::with(&[
        (
            "carts\t1.csv",
            b"cart_id,name,parent_cart_id\n1,a,\n2,b,1\n",
        ),
        (
            "carts\t2.csv",
            b"cart_id,name,parent_cart_id\n3,c,2\n4,d,3\n",
        ),
    ]);
    let mut draft = m.command("draft --each");
    draft.args(["carts\t1.csv", "carts\t2.csv", "-o", "specs"]);
    let drafted = said(draft);
    assert_eq!(drafted.code, 0, "{}", drafted.err);
    let spec = std::fs::read_dir(m.path("specs"))
        .expect("specs")
        .flatten()
        .next()
        .expect("one")
        .path();
    let text = std::fs::read_to_string(&spec).expect("text");
    assert!(
        !text.contains("[[references]]") && text.contains("# perhaps parent_cart_id"),
        "{text}"
    );
    let mut load = m.command("load");
    load.arg(&spec);
    let loaded = said(load);
    assert!(
        loaded.code == 0 && loaded.out.contains("loaded    4"),
        "{}{}",
        loaded.out,
        loaded.err
    );
}
