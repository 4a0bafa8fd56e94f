//! `barrow demo`.

use crate::market::Market;

#[test]
fn the_tour_runs_and_can_be_repeated_by_hand() {
    let m = Market::with(&[]);
    let said = m.run("demo tour");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    for line in said
        .out
        .lines()
        .filter_map(|line| line.strip_prefix("$ barrow "))
    {
        // The bucket is gone with the tour.
        if line.contains("s3://") {
            assert!(
                said.out
                    .contains("s3://market/out/deliveries-w15.psv   18 records")
            );
            continue;
        }
        // One argument has blanks in it, and comes out as it went in.
        if line.starts_with("export") {
            let went_in = m.read("tour/deliveries-w14.psv");
            assert!(m.read("tour/w14-again.psv") == went_in);
            continue;
        }
        // The SQL is one argument, and what it says stands in the tour.
        if line.starts_with("query") {
            assert!(
                said.out.contains("runner beans     12  1274.75"),
                "{}",
                said.out
            );
            continue;
        }
        let mut command = m.command(line);
        command.current_dir(m.path("tour"));
        let code = crate::market::said(command).code;
        assert!((0..=3).contains(&code) && code != 1, "{line}: {code}");
    }
    assert!(said.out.contains("1604,\"Wren Cottage"), "{}", said.out);
    assert_eq!(
        m.run("demo tour").code,
        2,
        "a folder that holds something is left alone"
    );
}

#[test]
fn the_tour_mends_the_run_that_it_has_just_loaded_however_often_it_runs() {
    let m = Market::with(&[]);
    for number in 0..20 {
        let said = m.run(&format!("demo tour{number}"));
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
        assert!(said.out.contains("2 mended, 9 are still open"), "{number}");
    }
}
