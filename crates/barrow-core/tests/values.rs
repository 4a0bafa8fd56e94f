//! What a spec says of values: nulls, marks, steps, limits, policies.

mod common;

use common::{Out, plan, read};

/// A delimited file of one column `a`, read with its other keys.
fn one(keys: &str, values: &[&str]) -> Out {
    let spec = format!("[delimited]\ndelimiter = \"|\"\n[columns]\na = {{ {keys} }}\n");
    read(&spec, format!("a\n{}\n", values.join("\n")))
}

/// Each value's cell, or the word of what is wrong with it.
fn cells(keys: &str, values: &[&str]) -> Vec<String> {
    let out = one(keys, values);
    let mut found: Vec<(u64, String)> = out
        .rows
        .iter()
        .map(|row| (row.0, row.3[0].clone()))
        .collect();
    let told = out.rejects.iter().map(|reject| {
        let codes: Vec<_> = reject.reasons.iter().map(|r| r.code.word()).collect();
        (reject.record, codes.join(" "))
    });
    found.extend(told);
    found.sort();
    found.into_iter().map(|(_, cell)| cell).collect()
}

/// Each repair: how often, and what.
fn repairs(out: &Out) -> Vec<(u64, String)> {
    let all = out.tally.repairs.iter();
    all.map(|r| (r.count, r.what.to_string())).collect()
}

#[test]
fn null_words_are_matched_after_the_trim_and_quoted_empties_told_apart() {
    let keys = "type = \"text\", trim = \"both\", null_values = [\"\", \"N/A\"]";
    let values = [" N/A ", "\"\"", "n/a", "\" \"", " x "];
    assert_eq!(cells(keys, &values), ["NULL", "", "n/a", "NULL", "x"]);
    let keys = "type = \"text\", quoted_empty = \"null\"";
    assert_eq!(cells(keys, &["\"\""]), ["NULL"]);
    // What is no text has no empty value of its own.
    assert_eq!(cells("type = \"integer\"", &["\"\""]), ["NULL"]);
    assert_eq!(
        cells("type = \"integer\", null_values = [\"-\"]", &["\"\"", "-"]),
        ["not-a-number", "NULL"]
    );
    assert_eq!(
        cells("type = \"text\", required = true", &["\"\"", "x"]),
        ["", "x"]
    );
}

#[test]
fn a_default_stands_for_null_and_is_counted() {
    let out = one(
        "type = \"decimal(6,2)\", default = 1.5",
        &["2", "\"\"", "3", "\"\""],
    );
    assert_eq!(out.cells(), [["200"], ["150"], ["300"], ["150"]]);
    assert_eq!(repairs(&out), [(2, "null, the default put in".into())]);
}

#[test]
fn numbers_are_read_as_the_spec_says_they_are_written() {
    let keys = "type = \"decimal(12,2)\", decimal_mark = \",\", group_mark = \".\", sign = \"any\", \
                strip = [\"€\", \"EUR\"]";
    let values = [
        "1.204,50",
        "(12,50)",
        "€ 7",
        "7,- ",
        "12,50-",
        "1,204.50",
        "-1.204.550",
    ];
    let wanted = [
        "120450",
        "-1250",
        "700",
        "not-a-number",
        "-1250",
        "not-a-number",
        "-120455000",
    ];
    assert_eq!(cells(keys, &values), wanted);
    let keys = "type = \"bigint\", group_mark = \",\"";
    assert_eq!(
        cells(keys, &["1,204,331", "12,04", "+5"]),
        ["1204331", "not-a-number", "5"]
    );
    let keys = "type = \"integer\", stored_as = \"hexadecimal\"";
    assert_eq!(
        cells(keys, &["0xFF", "7fffffff", "80000000"]),
        ["255", "2147483647", "out-of-range"]
    );
    let keys = "type = \"integer\", implied_decimals = 2";
    assert_eq!(cells(keys, &["1200", "1250"]), ["12", "too-precise"]);
}

#[test]
fn decimals_of_38_digits_are_exact_in_any_writing() {
    let digits = "12345678901234567890123456789012345678";
    let keys =
        "type = \"decimal(38,6)\", decimal_mark = \",\", group_mark = \"'\", sign = \"trailing\"";
    let grouped = "12'345'678'901'234'567'890'123'456'789'012,345678-";
    assert_eq!(cells(keys, &[grouped]), [format!("-{digits}")]);
    let keys = "type = \"decimal(38,6)\"";
    assert_eq!(
        cells(keys, &["1.2345678901234567890123456789012345678E31"]),
        [digits]
    );
}

#[test]
fn each_policy_repairs_or_rejects_and_is_counted() {
    let cases: &[(&str, &str, &str, &str)] = &[
        (
            "type = \"integer\", when_unreadable = \"null\"",
            "x",
            "NULL",
            "unreadable, made null",
        ),
        (
            "type = \"date\", when_unreadable = \"default\", default = 2031-04-01",
            "31/04/2031",
            "2031-04-01",
            "unreadable, the default put in",
        ),
        (
            "type = \"varchar(3)\", when_too_long = \"cut\"",
            "Café",
            "Caf",
            "cut to 3 characters",
        ),
        (
            "type = \"varchar(4)\", length_in = \"bytes\", when_too_long = \"cut\"",
            "Café",
            "Caf",
            "cut to 4 bytes",
        ),
        (
            "type = \"char(1)\", when_too_long = \"null\"",
            "AB",
            "NULL",
            "too long, made null",
        ),
        (
            "type = \"smallint\", when_out_of_range = \"clamp\"",
            "-40000",
            "-32768",
            "out of range, set to the nearest bound",
        ),
        (
            "type = \"decimal(4,1)\", max = 99.5, when_out_of_range = \"clamp\"",
            "5000",
            "995",
            "out of range, set to the nearest bound",
        ),
        (
            "type = \"date\", min = 2031-01-01, when_out_of_range = \"clamp\"",
            "1931-05-05",
            "2031-01-01",
            "out of range, set to the nearest bound",
        ),
        (
            "type = \"integer\", max = 10, when_out_of_range = \"null\"",
            "11",
            "NULL",
            "out of range, made null",
        ),
        (
            "type = \"decimal(6,2)\", when_too_precise = \"round\"",
            "-1.005",
            "-101",
            "rounded to 2 decimals",
        ),
        (
            "type = \"integer\", when_too_precise = \"round\"",
            "2.5",
            "3",
            "rounded to a whole number",
        ),
        (
            "type = \"integer\", when_too_precise = \"null\"",
            "2.5",
            "NULL",
            "too precise, made null",
        ),
        (
            "type = \"char(1)\", one_of = [\"A\", \"B\"], default = \"B\", when_not_allowed = \"default\"",
            "C",
            "B",
            "not allowed, the default put in",
        ),
        (
            "type = \"text\", matches = \"[a-z]+\", when_not_allowed = \"null\"",
            "a1",
            "NULL",
            "not allowed, made null",
        ),
        (
            "type = \"text\", case = \"upper\"",
            "straße",
            "STRASSE",
            "case changed",
        ),
        (
            "type = \"text\", control_characters = \"remove\"",
            "a\u{7}b",
            "ab",
            "control characters removed",
        ),
        (
            "type = \"text\", inner_spaces = \"collapse\"",
            "a \t b",
            "a b",
            "inner spaces collapsed",
        ),
        (
            "type = \"text\", unicode_form = \"nfc\"",
            "e\u{301}",
            "é",
            "composed to NFC",
        ),
        (
            "type = \"text\", lookup = { a = \"1\" }, when_not_in_lookup = \"keep\"",
            "b",
            "b",
            "not in the lookup, kept",
        ),
    ];
    for (keys, value, cell, what) in cases {
        let out = one(keys, &[value]);
        assert_eq!(out.cells(), [[*cell]], "{keys}");
        let wanted: &[(u64, String)] = match *what {
            "out of range, set to the nearest bound" if *value == "5000" => {
                // First to what the type holds, then to the column's own bound.
                &[(2, (*what).to_string())]
            }
            what => &[(1, what.to_string())],
        };
        assert_eq!(repairs(&out), wanted, "{keys}");
        // Without the policy the same value is a reject.
        let policy = keys
            .split(", ")
            .filter(|key| !key.starts_with("when_"))
            .collect::<Vec<_>>();
        if policy.len() < keys.split(", ").count() && !keys.contains("lookup") {
            let out = one(&policy.join(", "), &[value]);
            assert_eq!((out.rows.len(), out.rejects.len()), (0, 1), "{keys}");
        }
    }
}

#[test]
fn repairs_of_a_reject_are_not_counted() {
    let spec =
        "[columns]\na = { type = \"integer\", when_unreadable = \"null\" }\nb = \"integer\"\n";
    let out = read(spec, "a,b\nx,1\nx,y\n");
    assert_eq!((out.rows.len(), out.rejects.len()), (1, 1));
    assert_eq!(repairs(&out), [(1, "unreadable, made null".into())]);
}

#[test]
fn a_required_column_is_never_made_null() {
    let spec = "[values]\nwhen_unreadable = \"null\"\n[columns]\na = { type = \"integer\", required = true }\n";
    let out = read(spec, "a\nx\n7\n");
    assert_eq!(out.cells(), [["7"]]);
    assert_eq!(out.reasons(), [(2, vec!["not-a-number"])]);
}

#[test]
fn limits_say_what_is_allowed() {
    let out = one(
        "type = \"integer\", min = 1, max = 5",
        &["0", "1", "5", "6"],
    );
    assert_eq!(out.cells(), [["1"], ["5"]]);
    let reason = &out.rejects[0].reasons[0];
    assert_eq!(reason.code.word(), "out-of-range");
    assert_eq!(&*reason.says, "out of range: 1 to 5 is allowed");
    let out = one("type = \"char(1)\", one_of = [\"A\", \"B\"]", &["A", "a"]);
    assert_eq!(&*out.rejects[0].reasons[0].says, "not one of A, B");
    // Values are compared as what they are, not as they are written.
    let keys = "type = \"decimal(4,2)\", one_of = [0.5, 7]";
    assert_eq!(
        cells(keys, &["0.50", "7", "0.51"]),
        ["50", "700", "not-allowed"]
    );
    let keys = "type = \"text\", matches = \"[A-Z]{2}\"";
    assert_eq!(
        cells(keys, &["AB", "ABC", "xAB"]),
        ["AB", "not-allowed", "not-allowed"]
    );
    let keys = "type = \"decimal(38,0)\", max = 99999999999999999999999999999999999998";
    let most = "99999999999999999999999999999999999999";
    assert_eq!(
        cells(
            &keys.replace(" = 9", " = \"9").replace("98", "98\""),
            &[most]
        ),
        ["out-of-range"]
    );
}

#[test]
fn json_may_come_in_another_quoting() {
    let keys = "type = \"json\", replace = [[\"'\", \"\\\"\"]]";
    let values = ["{'id': 7}", "[1, 2]", "{'id': }"];
    assert_eq!(cells(keys, &values), ["{\"id\": 7}", "[1, 2]", "not-json"]);
    let out = one(keys, &values);
    assert_eq!(repairs(&out), [(1, "characters swapped".into())]);
}

#[test]
fn uuids_bytes_and_moments_are_read() {
    let uuid = "00112233445566778899aabbccddeeff";
    let keys = "type = \"uuid\"";
    assert_eq!(
        cells(keys, &["{00112233-4455-6677-8899-AABBCCDDEEFF}", "x"]),
        [uuid, "not-a-uuid"]
    );
    assert_eq!(
        cells("type = \"bytes\"", &["00fF", "0"]),
        ["00ff", "not-bytes"]
    );
    assert_eq!(
        cells("type = \"bytes\", stored_as = \"base64\"", &["AP8="]),
        ["00ff"]
    );
    let keys = "type = \"timestamptz\"";
    let moment = format!("2031-04-03+{}", 8 * 3600 * 1_000_000_000u64);
    assert_eq!(
        cells(keys, &["2031-04-03T10:00:00+02:00"]),
        [moment.as_str()]
    );
    let keys = "type = \"timestamptz\", time_zone = \"Europe/Berlin\", format = \"%d.%m.%Y %H:%M\"";
    let values = ["03.04.2031 10:00", "30.03.2031 02:30", "26.10.2031 02:30"];
    assert_eq!(
        cells(keys, &values),
        [moment.as_str(), "no-such-time", "ambiguous-time"]
    );
}

#[test]
fn two_digit_years_have_a_pivot() {
    let keys = "type = \"date\", format = \"%d/%m/%y\", two_digit_years_from = 1940";
    assert_eq!(
        cells(keys, &["31/12/39", "01/01/40"]),
        ["2039-12-31", "1940-01-01"]
    );
}

#[test]
fn what_values_says_holds_for_columns_that_do_not_say_otherwise() {
    let spec = "[values]\ndecimal_mark = \",\"\nnull_values = [\"-\"]\ntrim = \"both\"\n\
        inner_spaces = \"collapse\"\nwhen_unreadable = \"null\"\n[delimited]\ndelimiter = \"|\"\n\
        [columns]\na = \"decimal(4,1)\"\nb = { type = \"decimal(4,1)\", decimal_mark = \".\" }\n\
        c = \"text\"\nd = { type = \"date\", when_unreadable = \"reject\" }\n";
    let out = read(
        spec,
        "a|b|c|d\n 1,5 |2.5|x  y|-\n2.5|-| - |2031-04-01\n1|1||soon\n",
    );
    assert_eq!(
        out.cells(),
        [
            ["15", "25", "x y", "NULL"],
            ["NULL", "NULL", "NULL", "2031-04-01"]
        ]
    );
    assert_eq!(out.reasons(), [(4, vec!["not-a-date"])]);
}

#[test]
fn a_spec_that_asks_for_none_of_it_is_read_as_it_stands() {
    let plan = plan("[columns]\na = \"decimal(4,1)\"\nb = \"text\"\n");
    assert!(
        plan.record_types[0]
            .columns
            .iter()
            .all(|c| c.reader.as_ref().unwrap().form().is_none())
    );
}
