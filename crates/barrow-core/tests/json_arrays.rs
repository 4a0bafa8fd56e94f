//! A file that is one JSON array: whole, or refused (RFC 8259, section 5).

mod common;

use common::try_read;

const SPEC: &str = "[records]\nlayout = \"json\"\n[columns]\nid = \"bigint\"\nnote = { type = \"text\", optional = true }\n";

fn refusal(bytes: &[u8]) -> String {
    let mut told = String::new();
    for size in [1, 7, 1 << 16] {
        match try_read(SPEC, bytes, size) {
            Ok(out) => panic!(
                "{:?} gave {:?}",
                String::from_utf8_lossy(bytes),
                out.cells()
            ),
            Err(error) => told = error.to_string(),
        }
    }
    told
}

#[test]
fn what_is_no_whole_array_is_refused() {
    for (file, says) in [
        ("[{\"id\":1},{\"id\":2}", "ends within its array"),
        ("[{\"id\":1},{\"id\":2},", "ends within its array"),
        ("[", "ends within its array"),
        ("[{\"id\":1},{\"id\":2},]", "no object beside it"),
        ("[,{\"id\":1}]", "no object beside it"),
        ("[{\"id\":1}\n{\"id\":2}]", "one comma between"),
        ("[{\"id\":1},,{\"id\":2}]", "one comma between"),
        ("[{\"id\":1}]\n[{\"id\":2}]", "follows the array"),
        ("[{\"id\":1}],{\"id\":2}", "follows the array"),
        ("[{\"id\":1}]]", "follows the array"),
        ("[{\"id\":1}] {}", "follows the array"),
    ] {
        let told = refusal(file.as_bytes());
        assert!(told.contains(says), "{file}: {told}");
    }
}

#[test]
fn arrays_that_are_whole_are_read() {
    for (file, rows) in [
        ("[]", 0),
        (" [ ] \n", 0),
        ("[{\"id\":1}]", 1),
        (
            "\n[\n{\"id\":1}\n,\r\n {\"id\":2,\"note\":\"],[{\"} ] \n",
            2,
        ),
    ] {
        for size in [1, 7, 1 << 16] {
            let spec = format!("[source]\nwhen_empty = \"skip\"\n{SPEC}");
            let out = try_read(&spec, file.as_bytes(), size).unwrap();
            assert_eq!((out.rows.len(), out.rejects.len()), (rows, 0), "{file}");
        }
    }
}

#[test]
fn elements_that_are_no_objects_are_rejects() {
    let out = common::read(
        SPEC,
        "[{\"id\":1}, 5, \"x\", [1, {\"id\":3}], null, {\"id\":2}]",
    );
    assert_eq!(out.cells(), [["1", "NULL"], ["2", "NULL"]]);
    assert_eq!(out.rejects.len(), 4);
}

#[test]
fn a_cut_anywhere_is_refused_or_told_as_a_reject() {
    let objects: Vec<String> = (0..40)
        .map(|n| format!("{{\"id\":{n},\"note\":\"n {n}\"}}"))
        .collect();
    let file = format!("[{}]\n", objects.join(",\n"));
    for cut in 1..file.len() - 2 {
        if let Ok(out) = try_read(SPEC, &file.as_bytes()[..cut], 64) {
            panic!("{cut}: {} rows, {:?}", out.rows.len(), out.reasons());
        }
    }
}
