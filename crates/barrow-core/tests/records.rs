//! What a spec says of whole records: checks, conditions, computed columns, kinds,
//! totals.

mod common;

use common::{Out, read, try_read};

fn reasons(out: &Out) -> Vec<(u64, String)> {
    let each = out.rejects.iter().flat_map(|reject| {
        let line = reject.line;
        reject
            .reasons
            .iter()
            .map(move |reason| (line, reason.says.to_string()))
    });
    each.collect()
}

const MARKET: &str = "[columns]\npicked = \"date\"\nsold = \"date\"\nnet = \"decimal(8,2)\"\n\
    tare = \"decimal(8,2)\"\ngross = { type = \"decimal(8,2)\", load = false }\n";

#[test]
fn checks_compare_the_columns_of_a_record() {
    let spec = format!(
        "{MARKET}[[check]]\nthat = \"picked <= sold\"\nsays = \"sold before it was picked\"\n\
         [[check]]\nthat = \"net + tare = gross\"\n"
    );
    let file = "picked,sold,net,tare,gross\n\
        2031-04-01,2031-04-02,10.10,0.20,10.30\n\
        2031-04-03,2031-04-02,1,1,3\n\
        2031-04-01,,1,1,2\n\
        2031-04-03,2031-04-02,x,1,3\n\
        2031-04-01,2031-04-02,1,,9\n";
    let out = read(&spec, file);
    // A column that is not loaded is read for the check alone.
    let rows: Vec<_> = out.rows.iter().map(|row| (row.1, row.3.len())).collect();
    assert_eq!(rows, [(2, 4), (4, 4), (6, 4)]);
    let wanted = [
        (3, "sold before it was picked"),
        (3, "it does not hold that net + tare = gross"),
        (5, "not a number: decimal(8,2) was expected"),
        (5, "sold before it was picked"),
    ];
    let wanted: Vec<_> = wanted.map(|(line, says)| (line, says.to_string())).into();
    assert_eq!(reasons(&out), wanted);
    let value = out.rejects[0].reasons[1].value.as_deref();
    assert_eq!(value, Some("net = 1.00, tare = 1.00, gross = 3.00"));
}

#[test]
fn records_that_do_not_meet_keep_if_are_left_out_and_counted() {
    let spec = "[records]\nkeep_if = \"state <> 'VOID' and crates > 0\"\n[columns]\n\
        id = \"integer\"\nstate = { type = \"text\", load = false }\ncrates = \"integer\"\n";
    let file = "id,state,crates\n1,NEW,3\n2,VOID,3\nx,VOID,3\n4,NEW,0\n5,,3\n6,NEW,y\n7,VOID,y\n";
    let out = read(spec, file);
    assert_eq!(out.cells(), [["1", "3"]]);
    // Where the condition cannot be told since a value is wrong, the record is a reject.
    assert_eq!(
        out.reasons(),
        [(7, vec!["not-a-number"]), (8, vec!["not-a-number"])]
    );
    assert_eq!(out.tally.left_out().unmet, 4);
    assert_eq!(out.tally.all_records(), 1 + 2 + 4);
    assert_eq!(out.tally.left_out().lines(), 1);
}

#[test]
fn what_cannot_be_computed_is_a_reject() {
    let spec = "[columns]\na = \"integer\"\nb = \"integer\"\n[[check]]\nthat = \"a / b >= 2\"\n";
    let out = read(spec, "a,b\n4,2\n4,0\n1,2\n");
    assert_eq!(out.cells(), [["4", "2"]]);
    let wanted = [
        (3, "a division by zero in a / b >= 2".to_string()),
        (4, "it does not hold that a / b >= 2".to_string()),
    ];
    assert_eq!(reasons(&out), wanted);
}

#[test]
fn computed_columns_are_typed_like_any_other() {
    let spec = "[columns]\na = \"integer\"\nb = \"date\"\n\
        whole = { type = \"varchar(30)\", value = \"{a}/{b} {{x}}\" }\n\
        line = { type = \"integer\", value = \"{line}\" }\n\
        record = { type = \"smallint\", value = \"{record}0\" }\n\
        run = { type = \"text\", value = \"{run}\" }\n\
        now = { type = \"timestamp\", value = \"{now}\" }\n\
        again = { type = \"text\", value = \"{record}: {whole}\" }\n";
    let out = read(spec, "a,b\n7,2031-04-01\n8,\n");
    let now = format!("2031-04-30+{}", (6 * 3600 + 7 * 60 + 8) * 1_000_000_000u64);
    let first = [
        "7",
        "2031-04-01",
        "7/2031-04-01 {x}",
        "2",
        "10",
        "7f3a",
        &now,
        "1: 7/2031-04-01 {x}",
    ];
    let second = ["8", "NULL", "NULL", "3", "20", "7f3a", &now, "NULL"];
    assert_eq!(out.cells(), [first, second]);
}

#[test]
fn a_date_may_be_taken_from_a_file_s_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("stock-20310403.csv");
    std::fs::write(&path, "a\n1\n2\n").unwrap();
    let spec = "[columns]\na = \"integer\"\n\
        day = { type = \"date\", value = \"{file}\", format = \"stock-%Y%m%d.csv\" }\n";
    let out = common::read_path(spec, &path);
    assert_eq!(out.cells(), [["1", "2031-04-03"], ["2", "2031-04-03"]]);
}

#[test]
fn a_computed_value_that_will_not_do_is_told_with_its_text() {
    let spec = "[columns]\na = \"text\"\nb = { type = \"smallint\", value = \"{a}000\" }\n";
    let out = read(spec, "a\n7\n77\nx\n");
    assert_eq!(out.cells(), [["7", "7000"]]);
    let reason = &out.rejects[0].reasons[0];
    assert_eq!(
        (reason.code.word(), reason.value.as_deref()),
        ("out-of-range", Some("77000"))
    );
    assert_eq!(out.rejects[1].reasons[0].value.as_deref(), Some("x000"));
}

const KINDS: &str = "[records]\nheader = \"none\"\n[delimited]\ndelimiter = \"|\"\n\
    [[record_type]]\nname = \"order\"\nif = \"field(1) = 'O'\"\ntable = \"orders\"\n[record_type.columns]\n\
    mark = { type = \"text\", load = false }\norder_no = \"integer\"\ncustomer = \"text\"\n\
    [[record_type]]\nname = \"line\"\nif = \"field(1) = 'L'\"\ntable = \"lines\"\n[record_type.columns]\n\
    mark = { type = \"text\", load = false }\nproduce = \"text\"\ncrates = \"integer\"\n\
    order_no = { type = \"integer\", value = \"{order.order_no}\", required = true }\n";

#[test]
fn kinds_have_their_own_columns_and_carry_the_last_header_s_values() {
    let file = "O|5001|Ivy\nL|kale|4\nL|leeks|2\nO|5002|Bram\nL|dahlias|1\n";
    for block in [1, 16, 1 << 16] {
        let out = try_read(KINDS, file.as_bytes(), block).unwrap();
        let wanted: [&[&str]; 5] = [
            &["5001", "Ivy"],
            &["kale", "4", "5001"],
            &["leeks", "2", "5001"],
            &["5002", "Bram"],
            &["dahlias", "1", "5002"],
        ];
        assert_eq!(out.cells(), wanted, "{block}");
    }
}

#[test]
fn nothing_is_carried_from_a_record_that_did_not_load() {
    let file = "L|early|1\nO|5001|Ivy\nL|kale|4\nO|x|Bram\nL|leeks|2\nX|what\nO|5003|Ada\n\
        L|beet|1\n?|what\nL|dill|1\nO|5004\nL|mint|1\n";
    for block in [1, 16, 1 << 16] {
        let out = try_read(KINDS, file.as_bytes(), block).unwrap();
        let wanted: [&[&str]; 4] = [
            &["5001", "Ivy"],
            &["kale", "4", "5001"],
            &["5003", "Ada"],
            &["beet", "1", "5003"],
        ];
        assert_eq!(out.cells(), wanted, "{block}");
        let wanted = [
            (1, "no order record comes before it"),
            (4, "not a number: a whole number (integer) was expected"),
            (5, "the order record that it belongs to did not load"),
            (6, "a record of no record type"),
            (9, "a record of no record type"),
            (
                10,
                "a record of no known record type is between it and its order",
            ),
            (11, "too few fields: 2 of 3"),
            (12, "the order record that it belongs to did not load"),
        ];
        let wanted: Vec<_> = wanted.map(|(line, says)| (line, says.to_string())).into();
        assert_eq!(reasons(&out), wanted, "{block}");
    }
}

#[test]
fn a_kind_that_is_not_loaded_is_left_out_and_still_carried() {
    let spec = KINDS.replace("table = \"orders\"", "load = false");
    let out = read(&spec, "O|5001|Ivy\nL|kale|4\nO|x|Bram\n");
    assert_eq!(out.cells(), [["kale", "4", "5001"]]);
    assert_eq!(out.tally.left_out().other_kinds, 1);
    assert_eq!(out.reasons(), [(3, vec!["not-a-number"])]);
}

const TOTALS: &str = "[records]\npreamble = 1\ntrailer = 1\n[delimited]\ndelimiter = \"|\"\n\
    [columns]\nid = \"integer\"\nweight = { type = \"decimal(8,2)\", decimal_mark = \",\" }\n\
    [[control_total]]\nin = \"trailer\"\nfield = 2\n\
    [[control_total]]\nin = \"trailer\"\nfield = 3\nsum = \"weight\"\n\
    [[control_total]]\nin = \"preamble\"\nmatches = \"of (?<total>[0-9]+) weighings\"\n";

fn differences(spec: &str, file: &str) -> Vec<String> {
    let mut found = Vec::new();
    for block in [1, 16, 1 << 16] {
        let out = try_read(spec, file.as_bytes(), block).unwrap();
        let all = out.tally.differences.iter();
        let all = all.map(|d| format!("{} {}: {} / {}", d.of, d.place, d.stated, d.found));
        found.push(all.collect::<Vec<_>>());
    }
    assert!(found.iter().all(|other| *other == found[0]));
    found.remove(0)
}

#[test]
fn totals_that_a_file_states_are_held_against_what_was_found() {
    let right = "A list of 2 weighings\nid|weight\n1|10,25\n2|0,5\nTOTAL|2|10,75\n";
    assert!(differences(TOTALS, right).is_empty());
    let wrong = "A list of 3 weighings\nid|weight\n1|10,25\n2|0,5\nTOTAL|2|10,70\n";
    let wanted = [
        "weight trailer, line 1: 10.70 / 10.75",
        "records preamble, line 1: 3 / 2",
    ];
    assert_eq!(differences(TOTALS, wrong), wanted);
    // A record that is rejected counts all the same: the total is the file's.
    let rejected = "A list of 3 weighings\nid|weight\n1|10,25\nx|0,5\n3\nTOTAL|3|10,75\n";
    assert!(differences(TOTALS, rejected).is_empty());
    let none = "A list\nid|weight\n1|1\nTOTAL|one\n";
    let wanted = [
        "records trailer, line 1: \"one\", which is not a number / 1",
        "weight trailer, line 1: nothing: the line is \"TOTAL|one\" / 1.00",
        "records preamble, line 1: nothing: the line is \"A list\" / 1",
    ];
    assert_eq!(differences(TOTALS, none), wanted);
}

#[test]
fn a_computed_column_is_summed_and_carried_though_it_is_not_loaded() {
    let spec = "[records]\nheader = \"none\"\ntrailer = 1\n[delimited]\ndelimiter = \"|\"\n\
        [[record_type]]\nname = \"day\"\nif = \"field(1) = 'D'\"\nload = false\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\nyear = { type = \"text\", load = false }\n\
        week = { type = \"text\", load = false }\nclerk = \"text\"\n\
        both = { type = \"text\", load = false, value = \"{year}-{week}\" }\n\
        [[record_type]]\nname = \"item\"\nif = \"field(1) = 'I'\"\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\ntens = { type = \"text\", load = false }\n\
        of = { type = \"text\", value = \"{day.both}\" }\n\
        crates = { type = \"integer\", load = false, value = \"{tens}0\" }\n\
        [[control_total]]\nin = \"trailer\"\nrecord_type = \"item\"\nsum = \"crates\"\nfield = 2\n";
    let file = "D|2031|14|Ivy\nI|3\nI|4\nD|2031|15|Ada\nI|5\nT|120\n";
    assert!(differences(spec, file).is_empty());
    assert_eq!(differences(spec, &file.replace("T|120", "T|12")).len(), 1);
    let out = read(spec, file);
    assert_eq!(out.cells(), [["2031-14"], ["2031-14"], ["2031-15"]]);
}

#[test]
fn totals_of_a_kind_stand_at_a_place_of_the_line() {
    let spec = "[records]\nlayout = \"fixed\"\ntrailer = 1\n\
        [[record_type]]\nname = \"day\"\nif = \"slice(1, 1) = 'D'\"\nload = false\n[record_type.columns]\n\
        day = { type = \"date\", start = 2, width = 10 }\n\
        [[record_type]]\nname = \"ticket\"\nif = \"slice(1, 1) = 'T'\"\n[record_type.columns]\n\
        net = { type = \"decimal(8,2)\", start = 2, width = 6, implied_decimals = 2 }\n\
        day = { type = \"date\", value = \"{day.day}\" }\n\
        [[control_total]]\nin = \"trailer\"\nrecord_type = \"ticket\"\nstart = 2\nwidth = 3\n\
        [[control_total]]\nin = \"trailer\"\nrecord_type = \"ticket\"\nsum = \"net\"\nstart = 5\nwidth = 8\n\
        [[control_total]]\nin = \"trailer\"\nstart = 13\nwidth = 2\n";
    let file = "D2031-04-01\nT001050\nT000025\nD2031-04-02\nT000001\nZ0030000107605\n";
    assert!(differences(spec, file).is_empty());
    let out = read(spec, file);
    assert_eq!(out.cells()[2], ["1", "2031-04-02"]);
    let wrong = file.replace("Z003", "Z004");
    assert_eq!(
        differences(spec, &wrong),
        ["records of record type ticket trailer, line 1: 4 / 3"]
    );
}

#[test]
fn totals_and_conditions_read_any_encoding() {
    let spec = "[source]\nencoding = \"utf-16\"\n[records]\ntrailer = 1\n[delimited]\n\
        delimiter = \"§\"\n[columns]\nid = \"integer\"\nname = \"text\"\n\
        [[control_total]]\nin = \"trailer\"\nfield = 2\n[[check]]\nthat = \"name <> 'Zoë'\"\n";
    let text = "id§name\n1§Zoë\n2§Ada\nTotal§2\n";
    let bytes: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let out = read(spec, bytes);
    assert!(
        out.tally.differences.is_empty(),
        "{:?}",
        out.tally.differences
    );
    assert_eq!(out.cells(), [["2", "Ada"]]);
    let page = spec.replace("utf-16", "windows-1252");
    let bytes: Vec<u8> = text.chars().map(|c| c as u8).collect();
    let out = read(&page, bytes);
    assert!(
        out.tally.differences.is_empty(),
        "{:?}",
        out.tally.differences
    );
    assert_eq!(out.cells(), [["2", "Ada"]]);
}
