//! What is not the format's: `barrow.toml`, and a spec that extends another.

use crate::market::{Market, said};

const PRICES: &[u8] = b"item;price\nkale;1,50\nleeks;n/a\n";
const SPEC: &[u8] = b"[source]\nfiles = [\"../prices.csv\"]\n[delimited]\ndelimiter = \";\"\n\
    [columns]\nitem = \"text\"\nprice = \"decimal(6,2)\"\n[target]\ntable = \"prices\"\ncreate = true\n";
const SETTINGS: &[u8] =
    b"database = \"sqlite:m.db\"\nrejects = \"bad\"\n[values]\ndecimal_mark = \",\"\n\
    null_values = [\"\", \"n/a\"]\n";

fn market() -> Market {
    Market::with(&[
        ("prices.csv", PRICES),
        ("specs/prices.spec.toml", SPEC),
        ("barrow.toml", SETTINGS),
    ])
}

#[test]
fn settings_hold_for_the_specs_below_and_are_told() {
    let m = market();
    let check = m.run("check specs/prices.spec.toml");
    assert_eq!(check.code, 0, "{}{}", check.out, check.err);
    let first = check.out.lines().next().unwrap_or_default();
    assert!(first.starts_with("from barrow.toml"), "{}", check.out);
    for key in [
        "target.database",
        "rejects.folder",
        "values.decimal_mark",
        "values.null_values",
    ] {
        assert!(first.contains(key), "{first}");
    }
    let load = m.run("load specs/prices.spec.toml");
    assert_eq!(load.code, 0, "{}{}", load.out, load.err);
    assert!(load.err.contains("uses barrow.toml"), "{}", load.err);
    // The database is in the folder of the settings, not in that of the spec.
    assert!(m.path("m.db").exists() && !m.path("specs/m.db").exists());
    assert_eq!(
        m.count("SELECT count(*) FROM prices WHERE price IS NULL"),
        1
    );
    assert_eq!(m.count("SELECT count(*) FROM prices WHERE price = 1.5"), 1);
    // What goes by no spec knows the database too.
    let ledger = m.run("ledger");
    assert!(
        ledger.code == 0 && ledger.out.contains("prices"),
        "{}{}",
        ledger.out,
        ledger.err
    );
    assert!(ledger.err.contains("that of barrow.toml"), "{}", ledger.err);
    let quiet = m.run("load specs/prices.spec.toml -q");
    assert_eq!((quiet.code, quiet.err.as_str()), (0, ""));
}

#[test]
fn the_nearest_words_win() {
    let m = market();
    m.write(
        "specs/house.spec.toml",
        b"[target]\ndatabase = \"sqlite:house.db\"\ntable = \"house\"\n",
    );
    let own = String::from_utf8_lossy(SPEC).replace("table = \"prices\"\n", "");
    let own = format!("extends = \"house.spec.toml\"\n{own}");
    m.write("specs/prices.spec.toml", own.as_bytes());
    let to = |more: &str, environment: Option<&str>| {
        let mut command = m.command(&format!(
            "check specs/prices.spec.toml --report json {more}"
        ));
        if let Some(url) = environment {
            command.env("BARROW_DATABASE", url);
        }
        said(command).json()
    };
    // The spec that is extended, before the settings.
    let extended = to("", None);
    assert_eq!(extended["database"], "sqlite:specs/house.db");
    assert_eq!(extended["settings"][0]["file"], "specs/house.spec.toml");
    let keys = &extended["settings"][0]["keys"];
    assert_eq!(
        *keys,
        serde_json::json!(["target.database", "target.table"])
    );
    let of_folder = extended["settings"][1]["keys"].to_string();
    assert!(!of_folder.contains("target.database"), "{of_folder}");
    // The spec itself, before both; the environment before it; the command line before all.
    let named = format!("{own}database = \"sqlite:own.db\"\n");
    m.write("specs/prices.spec.toml", named.as_bytes());
    assert_eq!(to("", None)["database"], "sqlite:specs/own.db");
    let variable = Some("sqlite:variable.db");
    assert_eq!(to("", variable)["database"], "sqlite:variable.db");
    assert_eq!(
        to("--database sqlite:said.db", variable)["database"],
        "sqlite:said.db"
    );
}

#[test]
fn rejects_are_where_the_settings_say_and_mend_finds_them() {
    let m = market();
    m.write("prices.csv", b"item;price\nkale;1,50\nleeks;much\n");
    let load = m.run("load specs/prices.spec.toml --max-rejects 1 --report json");
    assert_eq!(load.code, 0, "{}{}", load.out, load.err);
    let run = load.json()["run"].as_str().unwrap_or_default().to_string();
    assert!(m.path(&format!("bad/{run}/prices.csv")).exists());
    m.write(
        &format!("bad/{run}/prices.csv"),
        b"item;price\nleeks;2,25\n",
    );
    let mend = m.run(&format!("mend {run}"));
    assert_eq!(mend.code, 0, "{}{}", mend.out, mend.err);
    assert_eq!(m.count("SELECT count(*) FROM prices"), 2);
}

#[test]
fn what_is_wrong_is_shown_in_the_file_that_says_it() {
    let m = market();
    m.write(
        "barrow.toml",
        b"database = \"sqlite:m.db\"\ndatabse = \"x\"\n[values]\ntrim = \"lots\"\n",
    );
    let check = m.run("check specs/prices.spec.toml");
    assert_eq!(check.code, 2, "{}", check.err);
    for words in [
        "barrow.toml has no key \"databse\"",
        "barrow.toml:2:",
        "barrow.toml:4:",
        "2 problems",
    ] {
        assert!(check.err.contains(words), "{words}: {}", check.err);
    }
    let json = m.run("check specs/prices.spec.toml --report json").json();
    let problem = &json["error"]["spec"]["problems"][0];
    assert_eq!(
        (&problem["file"], &problem["line"]),
        (&"barrow.toml".into(), &2.into())
    );
    assert_eq!(m.run("ledger").code, 2);
}

#[test]
fn a_spec_that_extends_nothing_or_itself_is_told() {
    let m = market();
    let with = |first: &str| {
        let own = format!("{first}\n{}", String::from_utf8_lossy(SPEC));
        m.write("specs/prices.spec.toml", own.as_bytes());
        m.run("check specs/prices.spec.toml")
    };
    let missing = with("extends = \"hose.spec.toml\"");
    assert!(
        missing.code == 2 && missing.err.contains("there is no specs/hose.spec.toml"),
        "{}",
        missing.err
    );
    let itself = with("extends = \"../specs/prices.spec.toml\"");
    assert!(
        itself.code == 2 && itself.err.contains("circle"),
        "{}",
        itself.err
    );
    m.write("a.toml", b"extends = \"b.toml\"\n");
    m.write("b.toml", b"extends = \"specs/../a.toml\"\n");
    let round = with("extends = \"../a.toml\"");
    assert!(
        round.code == 2 && round.err.contains("b.toml:1:"),
        "{}",
        round.err
    );
}

/// A draft says what its files are, whatever the settings say of others.
#[test]
fn a_draft_holds_its_own_against_the_settings() {
    let m = Market::with(&[
        ("barrow.toml", b"database = \"sqlite:m.db\"\n[values]\ndecimal_mark = \",\"\ngroup_mark = \".\"\nstrip = [\"kg\"]\ntrim = \"both\"\ndate = \"%d/%m/%Y\"\nnull_values = [\"\", \"north\"]\ntime_zone = \"UTC\"\ntimestamptz = \"%Y\"\n"),
        ("tickets.csv", b"weighed_on,kg,gate,at\n2031-04-03,1.204,north,2031-04-03T10:00:00+02:00\n2031-04-04,12.5,\" east\",2031-04-04T10:00:00+02:00\n2031-04-05,3.25,north,2031-04-05T10:00:00+02:00\n"),
    ]);
    let nowhere = m.run("draft tickets.csv -o specs/tickets.spec.toml");
    let says = nowhere.err.contains("there is no folder specs");
    assert!(nowhere.code == 2 && says, "{}", nowhere.err);
    std::fs::create_dir(m.path("specs")).expect("a folder");
    let draft = m.run("draft tickets.csv -o specs/tickets.spec.toml");
    assert_eq!(draft.code, 0, "{}{}", draft.out, draft.err);
    let text = String::from_utf8_lossy(&m.read("specs/tickets.spec.toml")).into_owned();
    assert!(!text.contains("database"), "{text}");
    let says = draft.err.contains("tickets.spec.toml uses") && draft.err.contains("barrow.toml");
    assert!(says, "{}", draft.err);
    let load = m.run("load specs/tickets.spec.toml -q");
    assert_eq!(load.code, 0, "{}{}\n{text}", load.out, load.err);
    let is = "weighed_on = '2031-04-03' AND kg = 1.204 AND gate = 'north'";
    assert_eq!(
        m.count(&format!("SELECT count(*) FROM tickets WHERE {is}")),
        1,
        "{text}"
    );
    assert_eq!(
        m.count("SELECT count(*) FROM tickets WHERE gate = ' east'"),
        1,
        "{text}"
    );
    let each = m.run("draft --each tickets.csv -o each");
    assert_eq!(each.code, 0, "{}{}", each.out, each.err);
    assert!(each.out.contains("of barrow.toml"), "{}", each.out);
    let load = m.run("load each/tickets.spec.toml -q --table each");
    assert_eq!(load.code, 0, "{}{}", load.out, load.err);
    assert_eq!(
        m.count(&format!("SELECT count(*) FROM \"each\" WHERE {is}")),
        1
    );
}

#[test]
fn columns_of_another_spec_are_updated_there() {
    let m = market();
    m.write(
        "specs/house.spec.toml",
        b"[columns]\nitem = \"varchar(4)\"\nprice = \"decimal(6,2)\"\n",
    );
    let own = b"extends = \"house.spec.toml\"\n[delimited]\ndelimiter = \";\"\n[target]\ntable = \"prices\"\n";
    m.write("specs/prices.spec.toml", own);
    let update = m.run("draft prices.csv --update specs/prices.spec.toml");
    assert_eq!(update.code, 2, "{}{}", update.out, update.err);
    assert!(
        update.err.contains("are in specs/house.spec.toml"),
        "{}",
        update.err
    );
    assert_eq!(m.read("specs/prices.spec.toml"), own);
}

#[test]
fn several_checks_are_one_document_and_each_is_told() {
    let m = market();
    m.write(
        "specs/gone.spec.toml",
        b"[source]\nfiles = [\"gone.csv\"]\n[columns]\na = \"text\"\n",
    );
    let all = "specs/gone.spec.toml specs/prices.spec.toml";
    let check = m.run(&format!("check {all} --report json"));
    assert_eq!(check.code, 1, "{}{}", check.out, check.err);
    let document = check.json();
    assert_eq!(document["kind"], "checks");
    assert_eq!(document["checks"][0]["kind"], "error");
    assert_eq!(document["checks"][1]["records"], 2);
    let text = m.run(&format!("check {all}"));
    assert!(
        text.code == 1 && text.err.contains("gone.csv"),
        "{}",
        text.err
    );
    assert!(text.out.contains("prices.csv"), "{}{}", text.out, text.err);
}

#[test]
fn what_the_command_line_says_is_not_from_the_settings() {
    let m = market();
    let keys = |more: &str| {
        let check = m.run(&format!(
            "check specs/prices.spec.toml --report json {more}"
        ));
        check.json()["settings"].to_string()
    };
    assert!(keys("").contains("rejects.folder") && keys("").contains("target.database"));
    let said = keys("--rejects else --database sqlite:else.db");
    assert!(
        !said.contains("rejects.folder") && !said.contains("target.database"),
        "{said}"
    );
}

/// A draft needs no database, and settings of every sort change none of its readings.
#[test]
fn drafts_of_every_layout_hold_their_own_against_all_settings() {
    let m = Market::with(&[
        ("barrow.toml", b"database = \"postgres://${NO_SUCH_VARIABLE}/market\"\n[values]\ntrim = \"left\"\nnull_values = [\"kale\"]\nquoted_empty = \"null\"\ndecimal_mark = \",\"\ngroup_mark = \".\"\nstrip = [\"1\"]\ntwo_digit_years_from = 1900\ninner_spaces = \"collapse\"\ncontrol_characters = \"remove\"\nunicode_form = \"nfc\"\nwhen_unreadable = \"null\"\nwhen_too_long = \"cut\"\nwhen_out_of_range = \"clamp\"\nwhen_too_precise = \"round\"\nwhen_not_allowed = \"null\"\ndate = \"%d/%m/%Y\"\ntime = \"%H.%M\"\ntimestamp = \"%d/%m/%Y %H:%M\"\ntimestamptz = \"%Y\"\n"),
        ("a.csv", b"crop,kg,on\nkale,1.25,2031-04-03\n  two  roots,10.50,2031-04-04\nleeks,1.5,2031-04-05\n"),
        ("b.jsonl", b"{\"crop\": \"kale\", \"kg\": 1.25, \"on\": \"2031-04-03\"}\n{\"crop\": \"  two  roots\", \"kg\": 10.50, \"on\": \"2031-04-04\"}\n{\"crop\": \"leeks\", \"kg\": 1.5, \"on\": \"2031-04-05\"}\n"),
        ("c.txt", b"kale       1.25 2031-04-03\ntwo  roots10.50 2031-04-04\nleeks      1.50 2031-04-05\nkale       1.25 2031-04-03\n"),
    ]);
    for (file, spec) in [("a.csv", "a"), ("b.jsonl", "b"), ("c.txt", "c")] {
        let draft = m.run(&format!("draft {file} -o {spec}.spec.toml --table {spec}"));
        assert_eq!(draft.code, 0, "{file}: {}{}", draft.out, draft.err);
        let load = m.run(&format!("load {spec}.spec.toml -q --database sqlite:m.db"));
        let text = String::from_utf8_lossy(&m.read(&format!("{spec}.spec.toml"))).into_owned();
        assert_eq!(load.code, 0, "{}{}\n{text}", load.out, load.err);
    }
    for table in ["a", "b"] {
        let is = "crop = 'kale' AND kg = 1.25 AND on_ = '2031-04-03'";
        assert_eq!(
            m.count(&format!("SELECT count(*) FROM {table} WHERE {is}")),
            1
        );
        let roots = "SELECT count(*) FROM {} WHERE crop = '  two  roots' AND kg = 10.5";
        assert_eq!(m.count(&roots.replace("{}", table)), 1, "{table}");
    }
    let cells = format!("{:?}", m.cells("SELECT * FROM c"));
    assert!(
        cells.contains("two  roots") && cells.contains("kale"),
        "{cells}"
    );
}

#[test]
fn a_report_beside_rows_is_a_document_and_nothing_else() {
    let m = market();
    let load = m.run("load specs/prices.spec.toml -q");
    assert_eq!(load.code, 0, "{}", load.err);
    for command in [
        "export specs/prices.spec.toml",
        "export --table prices",
        "convert specs/prices.spec.toml --to specs/prices.spec.toml",
        "query specs/prices.spec.toml --to specs/prices.spec.toml",
    ] {
        let said = match command.starts_with("query") {
            true => {
                let mut query = m.command(&format!("{command} --report json"));
                query.arg("SELECT item, price FROM prices");
                said(query)
            }
            false => m.run(&format!("{command} --report json")),
        };
        assert_eq!(said.code, 0, "{command}: {}", said.err);
        let document = serde_json::from_str::<serde_json::Value>(&said.err);
        assert!(document.is_ok(), "{command}: {}", said.err);
    }
}
