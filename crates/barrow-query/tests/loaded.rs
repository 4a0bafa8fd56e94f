//! A query to files gives what the same query gives to the tables that were loaded from them.

use std::error::Error;
use std::fmt::Write as _;
use std::path::Path;

use barrow_query::{Query, Value};
use barrow_run::{Load, Overrides, Spec};
use fastrand::Rng;
use rusqlite::Connection;

/// So many markets are made, and so many queries are asked of each.
const MARKETS: u64 = 25;
const QUERIES: usize = 8;

/// The columns of every table: name, type in the spec.
const COLUMNS: [(&str, &str); 10] = [
    ("id", "bigint"),
    ("k", "integer"),
    ("crop", "varchar(20)"),
    ("price", "decimal(8,2)"),
    ("amount", "decimal(30,4)"),
    ("ratio", "double"),
    ("fresh", "boolean"),
    ("day", "date"),
    ("at", "timestamp"),
    ("note", "text"),
];

/// A value as it stands in a file; nothing is null.
fn value(rng: &mut Rng, name: &str, row: usize) -> String {
    if name != "id" && rng.u8(..8) == 0 {
        return String::new();
    }
    let sign = |rng: &mut Rng| if rng.bool() { "-" } else { "" };
    match name {
        "id" => (row + 1).to_string(),
        "k" => rng.i32(-5..30).to_string(),
        "crop" => (*rng
            .choice(["kale", "Kale", "leek", "bean", "10", "9"].iter())
            .unwrap_or(&""))
        .into(),
        "price" => format!("{}{}.{:02}", sign(rng), rng.u32(..40), rng.u32(..100)),
        "amount" if rng.bool() => format!("{}{}", sign(rng), rng.u32(..40)),
        "amount" => {
            // Of at most 15 digits.
            let bits = rng.u8(1..36);
            let (whole, rest) = (rng.u64(..1 << bits), rng.u32(..10_000));
            format!("{}{whole}.{rest:04}", sign(rng))
        }
        "ratio" => format!("{}", rng.f64() * 100.0 - 50.0),
        "fresh" => rng.bool().to_string(),
        "day" => format!("2031-{:02}-{:02}", rng.u8(1..13), rng.u8(1..29)),
        "at" => format!(
            "2031-{:02}-{:02} {:02}:00:00",
            rng.u8(1..13),
            rng.u8(1..29),
            rng.u8(..24)
        ),
        _ => format!("\"n{}\"\"\n{}\"", rng.u8(..9), rng.u8(..9)),
    }
}

fn literal(rng: &mut Rng, name: &str) -> String {
    // Now and then one of another type, as people write them.
    let name = if rng.u8(..10) == 0 {
        COLUMNS[rng.usize(..10)].0
    } else {
        name
    };
    let text = value(rng, name, rng.clone().usize(..60));
    match name {
        _ if text.is_empty() => "NULL".into(),
        "id" | "k" | "price" | "ratio" if rng.u8(..5) > 0 => text,
        "fresh" => text,
        "amount" if rng.bool() => text
            .split('.')
            .next()
            .unwrap_or("0")
            .chars()
            .take(15)
            .collect(),
        "note" => format!("'{}'", text.trim_matches('"').replace("\"\"", "\"")),
        _ => format!("'{text}'"),
    }
}

fn condition(rng: &mut Rng, table: &str) -> String {
    let name = COLUMNS[rng.usize(..10)].0;
    let column = format!("{table}.{name}");
    let one = match rng.u8(..9) {
        0 => format!("{table}.{name} IS NOT NULL"),
        1 => format!(
            "{column} BETWEEN {} AND {}",
            literal(rng, name),
            literal(rng, name)
        ),
        2 => format!(
            "{table}.{name} IN ({}, {})",
            literal(rng, name),
            literal(rng, name)
        ),
        3 => format!(
            "{table}.crop LIKE '%{}%'",
            rng.choice(["a", "E", "1", "_"]).unwrap_or("a")
        ),
        _ => {
            let operator = rng
                .choice(["=", "<", "<=", ">", ">=", "<>", "IS"])
                .unwrap_or("=");
            format!("{column} {operator} {}", literal(rng, name))
        }
    };
    match rng.u8(..6) {
        0 => format!("({one} OR {})", condition(rng, table)),
        1 => format!("NOT ({one} AND {})", condition(rng, table)),
        2 | 3 => format!("{one} AND {}", condition(rng, table)),
        _ => one,
    }
}

/// A query; `[price]` stands for the sum of all prices, which each side says in its own way.
fn query(rng: &mut Rng) -> String {
    let column = COLUMNS[rng.usize(..10)].0;
    match rng.u8(..15) {
        0 | 1 => format!("SELECT * FROM t WHERE {} ORDER BY id", condition(rng, "t")),
        2 => format!(
            "SELECT crop, count(*), count({column}), [price], avg(k), min(day), max(at) FROM t \
             WHERE {} GROUP BY crop ORDER BY crop",
            condition(rng, "t")
        ),
        3 => format!("SELECT [price], sum(k), total(k), count(DISTINCT {column}) FROM t"),
        4 => format!(
            "SELECT t.id, u.id, u.{column} FROM t JOIN u ON t.{0} = u.{0} WHERE {1} ORDER BY 1, 2",
            rng.choice(["k", "crop", "day", "price", "fresh", "amount"]).unwrap_or("k"),
            condition(rng, "t")
        ),
        5 => format!(
            "SELECT t.id, u.id FROM t LEFT JOIN u ON t.k = u.k AND {} ORDER BY 1, 2",
            condition(rng, "u")
        ),
        6 => format!(
            "SELECT id FROM t WHERE {column} IN (SELECT {column} FROM u WHERE {}) ORDER BY id",
            condition(rng, "u")
        ),
        7 => format!(
            "SELECT id FROM t WHERE NOT EXISTS (SELECT 1 FROM u WHERE u.k > t.k AND {}) ORDER BY id",
            condition(rng, "u")
        ),
        8 => format!(
            "SELECT DISTINCT {column}, typeof({column}) FROM t UNION SELECT {column}, \
             typeof({column}) FROM u ORDER BY 1, 2 LIMIT 20 OFFSET {}",
            rng.u8(..4)
        ),
        9 => format!(
            "SELECT id, {column} FROM t WHERE {} ORDER BY {column} DESC, id LIMIT 9",
            condition(rng, "t")
        ),
        10 | 11 => whole_table(rng),
        12 => expression(rng),
        _ => "SELECT id, sum(k) OVER (PARTITION BY crop ORDER BY id ROWS 2 PRECEDING) FROM t ORDER BY id".into(),
    }
}

/// Comparisons of what is computed from decimals, and not of the columns alone.
fn expression(rng: &mut Rng) -> String {
    let than = literal(rng, "price").replace('\'', "");
    match rng.u8(..8) {
        0 => format!(
            "SELECT crop, max(amount) FROM t GROUP BY crop HAVING max(amount) > {than} ORDER BY crop"
        ),
        1 => "SELECT crop, min(amount) FROM t GROUP BY crop ORDER BY min(amount), crop".into(),
        2 => format!("SELECT id FROM t WHERE coalesce(amount, 0) > {than} ORDER BY id"),
        3 => format!(
            "SELECT id FROM t WHERE CASE WHEN k > 5 THEN amount ELSE price END > {than} ORDER BY id"
        ),
        4 => format!(
            "WITH c AS (SELECT id, amount AS a FROM t) SELECT id FROM c WHERE a > {than} ORDER BY a, id"
        ),
        5 => "SELECT id FROM t WHERE amount > price ORDER BY nullif(amount, 5), id".into(),
        6 => "SELECT DISTINCT abs(amount) FROM t ORDER BY 1".into(),
        _ => "SELECT id, row_number() OVER (ORDER BY amount, id) FROM t ORDER BY id".into(),
    }
}

/// Counts, sums and the like, and nothing else: such a query is answered batch by batch.
fn whole_table(rng: &mut Rng) -> String {
    let values = [
        "[price]",
        "avg(price)",
        "sum(k)",
        "total(k)",
        "avg(k)",
        "count(*)",
    ];
    let mut asked = vec![(*rng.choice(values.iter()).unwrap_or(&"")).to_string()];
    for _ in 0..rng.u8(..6) {
        let column = COLUMNS[rng.usize(..10)].0;
        let function = rng.choice(["min", "max", "count"]).unwrap_or("count");
        asked.push(format!("{function}({column})"));
    }
    rng.shuffle(&mut asked);
    format!("SELECT {} FROM t", asked.join(", "))
}

fn make(folder: &Path, name: &str, rng: &mut Rng) -> Result<(), Box<dyn Error>> {
    let names: Vec<&str> = COLUMNS.iter().map(|column| column.0).collect();
    let mut file = names.join(",") + "\n";
    for row in 0..rng.usize(1..60) {
        let values: Vec<String> = names.iter().map(|name| value(rng, name, row)).collect();
        writeln!(file, "{}", values.join(","))?;
    }
    std::fs::write(folder.join(format!("{name}.csv")), file)?;
    let mut spec = format!("[source]\nfiles = [\"{name}.csv\"]\n[columns]\n");
    for (name, ty) in COLUMNS {
        writeln!(spec, "{name} = \"{ty}\"")?;
    }
    write!(
        spec,
        "[target]\ndatabase = \"sqlite:m.db\"\ntable = \"{name}\"\ncreate = true\n"
    )?;
    std::fs::write(folder.join(format!("{name}.spec.toml")), spec)?;
    Ok(())
}

type Rows = Vec<Vec<Value>>;

fn of_files(folder: &Path, sql: &str) -> Result<Rows, Box<dyn Error>> {
    let mut query = Query::new(sql.replace("[price]", "sum(price)"));
    for name in ["t", "u"] {
        let spec = Spec::open(
            &folder.join(format!("{name}.spec.toml")),
            &Overrides::default(),
        )?;
        query = query.spec(spec, &[], None)?;
    }
    let mut rows = Rows::new();
    query.open()?.rows(&mut |row| {
        rows.push(row.to_vec());
        true
    })?;
    Ok(rows)
}

/// Of the loaded tables, by SQLite as it is.
fn of_tables(tables: &Connection, sql: &str) -> Result<Rows, Box<dyn Error>> {
    let cents = "sum(CAST(round(price * 100) AS INTEGER)) / 100.0";
    let mut statement = tables.prepare(&sql.replace("[price]", cents))?;
    let width = statement.column_count();
    let rows = statement.query_map([], |row| (0..width).map(|place| row.get(place)).collect())?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The same number is the same value: a sum is whole or not by how it was taken.
fn plain(rows: Rows) -> Rows {
    let number = |value| match value {
        Value::Integer(n) if n.abs() < 1 << 53 => Value::Real(n as f64),
        // An average is rounded once, or more than once.
        Value::Real(n) => Value::Real(format!("{n:.12e}").parse().unwrap_or(n)),
        other => other,
    };
    rows.into_iter()
        .map(|row| row.into_iter().map(number).collect())
        .collect()
}

#[test]
fn a_query_to_files_answers_as_one_to_the_loaded_tables() -> Result<(), Box<dyn Error>> {
    let mut found = 0;
    for seed in 0..MARKETS {
        let rng = &mut Rng::with_seed(seed);
        let folder = tempfile::tempdir()?;
        for name in ["t", "u"] {
            make(folder.path(), name, rng)?;
            let spec = Spec::open(
                &folder.path().join(format!("{name}.spec.toml")),
                &Overrides::default(),
            )?;
            let report = Load::new(&spec).run()?;
            assert!(report.loaded() > 0, "market {seed}");
        }
        let tables = Connection::open(folder.path().join("m.db"))?;
        for _ in 0..QUERIES {
            let sql = query(rng);
            let said = |error: Box<dyn Error>| format!("market {seed}: {sql}: {error}");
            let wanted = plain(of_tables(&tables, &sql).map_err(said)?);
            let rows = plain(of_files(folder.path(), &sql).map_err(said)?);
            assert_eq!(rows, wanted, "market {seed}: {sql}");
            found += rows.len();
        }
    }
    assert!(found > 1000, "the queries find {found} rows");
    Ok(())
}

/// What a query answers, the names of its columns, and what was read for it.
fn answered(folder: &Path, sql: &str) -> Result<String, Box<dyn Error>> {
    let spec = Spec::open(&folder.join("t.spec.toml"), &Overrides::default())?;
    let answer = Query::new(sql).spec(spec, &[], None)?.open()?;
    let mut said = String::new();
    let names: Vec<String> = answer.columns().iter().map(|c| c.name.clone()).collect();
    answer.rows(&mut |row| {
        said = format!("{names:?} {row:?}");
        true
    })?;
    let report = answer.report(1);
    let table = report.tables.first().ok_or("no table was read")?;
    write!(
        said,
        " {:?} {:?} {} {:?}",
        table.columns, table.counts.files, table.is_whole, report.notes
    )?;
    Ok(said)
}

#[test]
fn counts_and_sums_of_a_whole_table_are_those_of_its_rows_one_by_one() -> Result<(), Box<dyn Error>>
{
    let folder = tempfile::tempdir()?;
    let mut file = String::from("id,price,day,big\n");
    // More than a batch has; a few that are wrong; sums of more than 15 digits.
    for row in 0..200_000u64 {
        let wrong = if row % 50_000 == 7 { "x" } else { "" };
        let (cents, day) = (row % 100, row % 28 + 1);
        writeln!(
            file,
            "{row},{wrong}{row}.{cents:02},2031-01-{day:02},99999999999999.9"
        )?;
    }
    std::fs::write(folder.path().join("t.csv"), file)?;
    let columns = "id = \"bigint\"\nprice = \"decimal(12,2)\"\nday = \"date\"\n\
                   big = \"decimal(15,1)\"\n";
    let spec = format!("[source]\nfiles = [\"t.csv\"]\n[columns]\n{columns}");
    std::fs::write(folder.path().join("t.spec.toml"), spec)?;
    for asked in [
        "count(*)",
        "count(*), sum(price) AS \"all\", avg(id)",
        "min(day), max(day), max(price), min(id), total(id)",
        "sum(big), avg(big)",
    ] {
        let plain = answered(folder.path(), &format!("SELECT {asked} FROM t"))?;
        let by_rows = answered(folder.path(), &format!("SELECT {asked} FROM t WHERE 1"))?;
        assert_eq!(plain, by_rows);
    }
    let sums = answered(folder.path(), "SELECT sum(price), count(price) FROM t")?;
    // 19,999,900,000 without 7, 50,007, 100,007 and 150,007; 2,000 times 49.50 without 4 times 0.07.
    assert!(
        sums.contains("[Real(19999698971.72), Integer(199996)]"),
        "{sums}"
    );
    Ok(())
}

/// A decimal as whole units of ten to the power of minus eight, and as it is written.
fn decimal(rng: &mut Rng) -> (i128, String) {
    let digits = rng.u32(1..=15);
    let most = 10i64.pow(digits);
    let number = rng.i64(1 - most..most);
    let scale = rng.u32(0..=8);
    let unit = 10i64.pow(scale);
    let sign = if number < 0 { "-" } else { "" };
    let (whole, rest) = (
        number.unsigned_abs() / unit as u64,
        number.unsigned_abs() % unit as u64,
    );
    let text = match scale {
        0 => format!("{sign}{whole}"),
        _ => format!("{sign}{whole}.{rest:0width$}", width = scale as usize),
    };
    (i128::from(number) * 10i128.pow(8 - scale), text)
}

#[test]
fn decimals_compare_and_sort_exactly_in_files_and_in_the_loaded_table() -> Result<(), Box<dyn Error>>
{
    for seed in 0..20 {
        let rng = &mut Rng::with_seed(seed);
        let folder = tempfile::tempdir()?;
        let values: Vec<(i128, String)> = (0..200).map(|_| decimal(rng)).collect();
        let lines: String = values
            .iter()
            .enumerate()
            .map(|(id, (_, text))| format!("{id},{text}\n"))
            .collect();
        std::fs::write(folder.path().join("t.csv"), format!("id,a\n{lines}"))?;
        std::fs::write(
            folder.path().join("t.spec.toml"),
            "[source]\nfiles = [\"t.csv\"]\n[columns]\nid = \"bigint\"\na = \"decimal(30,8)\"\n\
             [target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\ncreate = true\n",
        )?;
        let spec = Spec::open(&folder.path().join("t.spec.toml"), &Overrides::default())?;
        assert_eq!(Load::new(&spec).run()?.loaded(), 200);
        let tables = Connection::open(folder.path().join("m.db"))?;
        for _ in 0..10 {
            let (than, text) = decimal(rng);
            let mut wanted: Vec<(i128, usize)> = values
                .iter()
                .enumerate()
                .map(|(id, (n, _))| (*n, id))
                .filter(|(n, _)| *n > than)
                .collect();
            wanted.sort_unstable();
            let wanted: Vec<Vec<Value>> = wanted
                .into_iter()
                .map(|(_, id)| vec![Value::Integer(id as i64)])
                .collect();
            for condition in [
                "a > {}",
                "coalesce(a, 0) > {}",
                "CASE WHEN id >= 0 THEN a END > {}",
            ] {
                let condition = condition.replace("{}", &text);
                let sql = format!("SELECT id FROM t WHERE {condition} ORDER BY a, id");
                let mut rows = Vec::new();
                let spec = Spec::open(&folder.path().join("t.spec.toml"), &Overrides::default())?;
                Query::new(&*sql)
                    .spec(spec, &[], None)?
                    .open()?
                    .rows(&mut |row| {
                        rows.push(row.to_vec());
                        true
                    })?;
                assert_eq!(rows, wanted, "seed {seed}: {sql}");
                assert_eq!(of_tables(&tables, &sql)?, wanted, "seed {seed}: {sql}");
            }
        }
    }
    Ok(())
}

#[test]
fn what_no_number_holds_is_an_error_or_text_and_never_both() -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    std::fs::write(
        folder.path().join("t.csv"),
        "id,a\n1,5.00\n2,1234567890123456.78\n3,9007199254740993.00\n",
    )?;
    let spec = |keys: &str| -> Result<Spec, Box<dyn Error>> {
        let text = format!(
            "[source]\nfiles = [\"t.csv\"]\n[columns]\nid = \"bigint\"\na = {{ type = \"decimal(18,2)\"{keys} }}\n\
             [target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\ncreate = true\n[rejects]\nmax_rejects = 5\n"
        );
        std::fs::write(folder.path().join("t.spec.toml"), text)?;
        Ok(Spec::open(
            &folder.path().join("t.spec.toml"),
            &Overrides::default(),
        )?)
    };
    let report = Load::new(&spec("")?).run()?;
    assert_eq!((report.loaded(), report.rejected()), (2, 1));
    assert_eq!(report.tally.reason_kinds()[0].code.word(), "inexact");
    let tables = Connection::open(folder.path().join("m.db"))?;
    let types = "SELECT DISTINCT typeof(a) FROM t";
    assert_eq!(
        of_tables(&tables, types)?,
        [[Value::Text("integer".into())]]
    );
    let answer = Query::new("SELECT max(a) FROM t")
        .spec(spec("")?, &[], None)?
        .open()?;
    let error = answer.rows(&mut |_| true).unwrap_err().to_string();
    assert!(
        error.contains("line 3") && error.contains("15 digits"),
        "{error}"
    );
    tables.execute_batch("DROP TABLE t")?;
    let text = ", when_inexact = \"text\"";
    assert_eq!(Load::new(&spec(text)?).again(true).run()?.loaded(), 3);
    assert_eq!(of_tables(&tables, types)?, [[Value::Text("text".into())]]);
    let answer = Query::new("SELECT DISTINCT typeof(a) FROM t")
        .spec(spec(text)?, &[], None)?
        .open()?;
    let mut rows = Vec::new();
    answer.rows(&mut |row| {
        rows.push(row.to_vec());
        true
    })?;
    assert_eq!(rows, [[Value::Text("text".into())]]);
    Ok(())
}

#[test]
fn a_sum_of_many_digits_is_shown_exactly_and_never_compared_as_text() -> Result<(), Box<dyn Error>>
{
    let folder = tempfile::tempdir()?;
    std::fs::write(
        folder.path().join("t.csv"),
        "g,a\n1,-9999999999999.99\n1,-9999999999999.99\n2,9999999999999.99\n2,9999999999999.99\n2,0.05\n",
    )?;
    std::fs::write(
        folder.path().join("t.spec.toml"),
        "[source]\nfiles = [\"t.csv\"]\n[columns]\ng = \"integer\"\na = \"decimal(18,2)\"\n[target]\ntable = \"t\"\n",
    )?;
    let ask = |sql: &str| -> Result<Rows, Box<dyn Error>> {
        let spec = Spec::open(&folder.path().join("t.spec.toml"), &Overrides::default())?;
        let mut rows = Rows::new();
        Query::new(sql)
            .spec(spec, &[], None)?
            .open()?
            .rows(&mut |row| {
                rows.push(row.to_vec());
                true
            })?;
        Ok(rows)
    };
    let shown = ask("SELECT g, sum(a) FROM t GROUP BY g")?;
    assert_eq!(shown[1][1], Value::Text("20000000000000.03".into()));
    for sql in [
        "SELECT g FROM t GROUP BY g HAVING sum(a) > 100",
        "SELECT g, sum(a) AS s FROM t GROUP BY g ORDER BY s",
        "SELECT sum(a) > 100 FROM t GROUP BY g",
    ] {
        let error = ask(sql).unwrap_err().to_string();
        assert!(error.contains("total("), "{sql}: {error}");
    }
    let rounded = ask("SELECT g FROM t GROUP BY g HAVING total(a) > 100")?;
    assert_eq!(rounded, [[Value::Integer(2)]]);
    Ok(())
}

#[test]
fn moments_compare_and_sort_by_time_in_files_and_in_the_loaded_table() -> Result<(), Box<dyn Error>>
{
    let folder = tempfile::tempdir()?;
    std::fs::write(
        folder.path().join("t.csv"),
        "id,at,ts,clock\n1,2031-01-01T12:00:00.5Z,2031-01-01 12:00:00.50,12:00:00.5\n\
         2,2031-01-01T14:00:00+02:00,2031-01-01 12:00:00,12:00:00\n\
         3,2031-01-01T12:00:00.25Z,2031-01-01 12:00:00.25,12:00:00.250\n",
    )?;
    std::fs::write(
        folder.path().join("t.spec.toml"),
        "[source]\nfiles = [\"t.csv\"]\n[columns]\nid = \"bigint\"\nat = \"timestamptz\"\nts = \"timestamp\"\n\
         clock = \"time\"\n[target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\ncreate = true\n",
    )?;
    let open = || Spec::open(&folder.path().join("t.spec.toml"), &Overrides::default());
    let spec = open()?;
    assert_eq!(Load::new(&spec).run()?.loaded(), 3);
    let tables = Connection::open(folder.path().join("m.db"))?;
    let ask = |sql: &str| -> Result<Rows, Box<dyn Error>> {
        let mut rows = Rows::new();
        Query::new(sql)
            .spec(open()?, &[], None)?
            .open()?
            .rows(&mut |row| {
                rows.push(row.to_vec());
                true
            })?;
        Ok(rows)
    };
    for sql in [
        "SELECT * FROM t ORDER BY id",
        "SELECT id FROM t ORDER BY at",
        "SELECT id FROM t ORDER BY ts",
        "SELECT id FROM t ORDER BY clock",
        "SELECT max(at), min(ts), length(at), length(clock) FROM t",
        "SELECT id FROM t WHERE at > '2031-01-01 12:00:00' ORDER BY id",
        "SELECT id FROM t WHERE ts = '2031-01-01 12:00:00.5'",
        "SELECT id FROM t WHERE at <= datetime('2031-01-01 12:00:00')",
    ] {
        assert_eq!(ask(sql)?, of_tables(&tables, sql)?, "{sql}");
    }
    let ids = |ids: &[i64]| -> Rows { ids.iter().map(|id| vec![Value::Integer(*id)]).collect() };
    assert_eq!(ask("SELECT id FROM t ORDER BY at")?, ids(&[2, 3, 1]));
    assert_eq!(
        ask("SELECT id FROM t WHERE at > '2031-01-01 12:00:00Z' ORDER BY id")?,
        ids(&[1, 3])
    );
    assert_eq!(
        ask("SELECT id FROM t WHERE at = '2031-01-01T13:00:00.25+01:00'")?,
        ids(&[3])
    );
    let error =
        ask("SELECT id FROM t WHERE coalesce(at, '') > '2031-01-01 12:00:00Z'").unwrap_err();
    assert!(error.to_string().contains("has a zone"), "{error}");
    // What is loaded is found again in the files.
    let database = format!("sqlite:{}", folder.path().join("m.db").display());
    let sql = "SELECT count(*) FROM t WHERE NOT EXISTS (SELECT 1 FROM loaded.t l WHERE l.at = t.at AND l.ts = t.ts AND l.clock = t.clock)";
    let query = Query::new(sql)
        .with(Some(database))
        .spec(open()?, &[], None)?;
    let mut missing = Rows::new();
    query.open()?.rows(&mut |row| {
        missing.push(row.to_vec());
        true
    })?;
    assert_eq!(missing, ids(&[0]));
    Ok(())
}

#[test]
fn a_table_of_an_earlier_version_keeps_its_form_of_times() -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    std::fs::write(
        folder.path().join("t.csv"),
        "id,at\n1,2031-01-01T12:00:00.5Z\n2,2031-01-01T12:00:00Z\n",
    )?;
    std::fs::write(
        folder.path().join("t.spec.toml"),
        "[source]\nfiles = [\"t.csv\"]\n[columns]\nid = \"bigint\"\nat = \"timestamptz\"\n\
         [target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\n",
    )?;
    let tables = Connection::open(folder.path().join("m.db"))?;
    tables.execute_batch(
        "CREATE TABLE t (id BIGINT, at TIMESTAMPTZ); INSERT INTO t VALUES (0, '2030-01-01 12:00:00.250Z')",
    )?;
    let spec = Spec::open(&folder.path().join("t.spec.toml"), &Overrides::default())?;
    assert_eq!(Load::new(&spec).run()?.loaded(), 2);
    let text = |text: &str| vec![Value::Text(text.into())];
    let rows = of_tables(&tables, "SELECT at FROM t ORDER BY id")?;
    let older = [
        "2030-01-01 12:00:00.250Z",
        "2031-01-01 12:00:00.500Z",
        "2031-01-01 12:00:00Z",
    ];
    assert_eq!(rows, older.map(text));
    Ok(())
}
