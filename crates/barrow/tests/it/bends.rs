//! Columns that would bend a value in silence: what is in the table afterwards is the value
//! of the file, or there is no row of it and the load says why.

use crate::databases::{Database, Kind};

/// A column, the spec's type for it, a value of a file, and that value as the database
/// shows it where it is kept.
type Case = (&'static str, &'static str, &'static str, &'static str);

/// Loads each value by itself. A value is kept as it is, or not at all; returns those that
/// are not.
fn kept_or_told(kind: Kind, show: &str, cases: &[Case]) -> Vec<&'static str> {
    let mut told = Vec::new();
    for (declared, ty, value, wanted) in cases {
        let spec = format!(
            "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\nv = \"{ty}\"\n\
             [target]\ntable = \"d\"\n[rejects]\nmax_rejects = 9\n"
        );
        let file = format!("id,v\n1,{value}\n");
        let d = Database::new(
            kind,
            &[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())],
        );
        d.sql(&[&format!("CREATE TABLE d (id INTEGER, v {declared})")]);
        let said = d.run("load d.spec.toml --report json");
        let found = d.rows(&format!("SELECT {show} FROM d"));
        let name = format!("{declared} <- {value} ({ty})");
        match found.as_slice() {
            [] => {
                let is_told = said.code == 2 || said.json()["rejected"] == 1;
                assert!(is_told, "{name}: {}{}", said.out, said.err);
                told.push(*declared);
            }
            [one] => assert_eq!(one, wanted, "{name}"),
            more => panic!("{name}: {more:?}"),
        }
    }
    told
}

#[test]
fn mariadb_bends_nothing() {
    let cases: &[Case] = &[
        ("TIMESTAMP NOT NULL", "timestamptz", "", "never"),
        ("TIMESTAMP NULL", "timestamptz", "", "~"),
        ("ENUM('b','a')", "text", "a", "a"),
        ("ENUM('b','a')", "text", "2", "never"),
        ("ENUM('b','a')", "text", "A", "never"),
        ("ENUM('1','2','0')", "text", "0", "0"),
        ("ENUM('b','a')", "text", "\"\"", "never"),
        ("SET('x','y')", "text", "\"x,y\"", "x,y"),
        ("SET('x','y')", "text", "\"y,x\"", "never"),
        ("SET('x','y')", "text", "\"x,x\"", "never"),
        ("SET('x','y')", "text", "3", "never"),
        ("CHAR(4)", "text", "\"ab \"", "never"),
        ("CHAR(4)", "text", "ab", "ab"),
        ("VARCHAR(4)", "text", "\"ab \"", "ab "),
        ("VARCHAR(2)", "text", "abc", "never"),
        ("TINYTEXT", "text", "abc", "abc"),
        ("DECIMAL(5,2)", "decimal(8,4)", "1.2345", "never"),
        ("DECIMAL(5,2)", "decimal(8,4)", "1.2300", "1.23"),
        ("DECIMAL(3,0)", "integer", "1000", "never"),
        ("TINYINT", "integer", "128", "never"),
        ("TINYINT UNSIGNED", "integer", "-1", "never"),
        ("SMALLINT", "integer", "32768", "never"),
        ("MEDIUMINT", "integer", "8388608", "never"),
        ("INT", "bigint", "2147483648", "never"),
        (
            "BIGINT",
            "bigint",
            "9223372036854775807",
            "9223372036854775807",
        ),
        ("FLOAT", "double", "0.1", "never"),
        ("FLOAT(5,2)", "double", "1.239", "never"),
        ("DOUBLE(5,2)", "double", "1.239", "never"),
        ("DOUBLE", "double", "0.1", "0.1"),
        ("DATE", "timestamp", "2031-04-28 16:30:00", "never"),
        ("DATE", "date", "2031-04-28", "2031-04-28"),
        ("TIME", "time", "16:30:00.5", "never"),
        ("TIME(1)", "time", "16:30:00.5", "16:30:00.5"),
        ("DATETIME", "timestamp", "2031-04-28 16:30:00.5", "never"),
        (
            "DATETIME(3)",
            "timestamp",
            "2031-04-28 16:30:00.125",
            "2031-04-28 16:30:00.125",
        ),
        ("TIMESTAMP", "timestamptz", "2131-04-28T16:30:00Z", "never"),
        ("YEAR", "integer", "31", "never"),
        ("BIT(4)", "integer", "3", "never"),
        ("BOOLEAN", "boolean", "true", "1"),
        ("INET4", "text", "10.0.0.1", "10.0.0.1"),
        ("INET4", "text", "010.000.000.001", "never"),
        ("INET6", "text", "::1", "::1"),
        ("INET6", "text", "0:0:0:0:0:0:0:1", "never"),
        (
            "UUID",
            "uuid",
            "123e4567-e89b-12d3-a456-426655440000",
            "123e4567-e89b-12d3-a456-426655440000",
        ),
        ("INT DEFAULT 7", "integer", "", "~"),
        ("INT NOT NULL", "integer", "", "never"),
        ("INT NOT NULL DEFAULT 7", "integer", "", "never"),
        ("BIGINT AUTO_INCREMENT, KEY (v)", "bigint", "", "never"),
        ("VARCHAR(9) CHARACTER SET latin1", "text", "日本", "never"),
        ("VARCHAR(9) CHARACTER SET latin1", "text", "Bär", "Bär"),
        ("JSON", "json", "1.10", "1.10"),
        ("INT ZEROFILL", "integer", "7", "0000000007"),
    ];
    let told = kept_or_told(Kind::MariaDb, "v", cases);
    assert!(told.len() > 25, "{told:?}");
    // Bytes are filled up to a width.
    let bytes: &[Case] = &[
        ("BINARY(3)", "bytes", "6162", "never"),
        ("BINARY(3)", "bytes", "616263", "616263"),
        ("VARBINARY(3)", "bytes", "6162", "6162"),
        ("VARBINARY(1)", "bytes", "6162", "never"),
        ("BLOB", "bytes", "00ff", "00FF"),
    ];
    assert_eq!(
        kept_or_told(Kind::MariaDb, "HEX(v)", bytes),
        ["BINARY(3)", "VARBINARY(1)"]
    );
}

#[test]
fn postgres_bends_nothing() {
    let cases: &[Case] = &[
        (
            "xml",
            "text",
            "\"<?xml version=\"\"1.0\"\" encoding=\"\"latin1\"\"?><a>ü</a>\"",
            "never",
        ),
        ("xml", "text", "<a>ü</a>", "<a>ü</a>"),
        ("jsonb", "json", "\"{\"\"a\"\": 1, \"\"a\"\": 2}\"", "never"),
        ("jsonb", "json", "1.10", "1.10"),
        (
            "json",
            "json",
            "\"{\"\"a\"\": 1, \"\"a\"\": 2}\"",
            "{\"a\": 1, \"a\": 2}",
        ),
        ("char(4)", "text", "\"ab \"", "never"),
        ("char(4)", "text", "ab", "ab  "),
        ("varchar(2)", "text", "abc", "never"),
        ("varchar(2)", "text", "\"ab \"", "never"),
        ("name", "text", "abc", "abc"),
        ("numeric(5,2)", "decimal(8,4)", "1.2345", "never"),
        ("numeric(5,2)", "decimal(8,4)", "1.2300", "1.23"),
        ("numeric", "decimal(38,10)", "1.1000000000", "1.1000000000"),
        ("real", "double", "0.1", "never"),
        ("real", "real", "0.1", "0.1"),
        ("double precision", "double", "0.1", "0.1"),
        ("smallint", "integer", "32768", "never"),
        ("integer", "bigint", "2147483648", "never"),
        ("date", "timestamp", "2031-04-28 16:30:00", "never"),
        ("time(0)", "time", "16:30:00.5", "never"),
        ("time", "time", "16:30:00.123456", "16:30:00.123456"),
        (
            "timestamp(0)",
            "timestamp",
            "2031-04-28 16:30:00.5",
            "never",
        ),
        (
            "timestamp",
            "timestamp",
            "2031-04-28 16:30:00.1234567",
            "never",
        ),
        ("integer GENERATED ALWAYS AS IDENTITY", "integer", "7", "7"),
        ("integer NOT NULL", "integer", "", "never"),
        ("integer DEFAULT 7", "integer", "", "~"),
        ("text", "text", "\"a\u{0}b\"", "never"),
        ("inet", "text", "10.0.0.1/32", "never"),
        ("money", "decimal(8,2)", "1.50", "never"),
        ("bit(4)", "text", "1010", "never"),
        (
            "uuid",
            "uuid",
            "123E4567E89B12D3A456426655440000",
            "123e4567-e89b-12d3-a456-426655440000",
        ),
        ("boolean", "boolean", "true", "t"),
    ];
    let told = kept_or_told(Kind::Postgres, "v", cases);
    assert!(told.len() > 12, "{told:?}");
}

#[test]
fn sqlite_bends_nothing() {
    let cases: &[Case] = &[
        ("INTEGER PRIMARY KEY", "bigint", "", "never"),
        ("INTEGER PRIMARY KEY", "bigint", "7", "integer:7"),
        ("JSON", "json", "1.10", "never"),
        ("TEXT", "json", "1.10", "text:1.10"),
        ("INTEGER", "text", "007", "never"),
        ("TEXT", "text", "007", "text:007"),
        ("NUMERIC", "decimal(20,2)", "123456789012345678.90", "never"),
        (
            "TEXT",
            "decimal(20,2)",
            "123456789012345678.90",
            "text:123456789012345678.90",
        ),
        ("DECIMAL(8,2)", "decimal(8,2)", "1.50", "real:1.5"),
        ("REAL", "bigint", "9007199254740993", "never"),
        ("REAL", "bigint", "7", "real:7.0"),
        (
            "INTEGER",
            "bigint",
            "9223372036854775807",
            "integer:9223372036854775807",
        ),
        ("BLOB", "text", "007", "text:007"),
        ("INTEGER NOT NULL", "integer", "", "never"),
    ];
    let told = kept_or_told(Kind::Sqlite, "typeof(v) || ':' || v", cases);
    assert!(told.len() >= 6, "{told:?}");
}
