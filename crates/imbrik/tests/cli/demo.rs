//! `imbrik demo`

use crate::harness::Bench;
use std::fs;

#[test]
fn the_demo_runs_twice_and_spares_a_folder_that_is_not_its_own() {
    let bench = Bench::empty();
    for _ in 0..2 {
        let run = bench.good("demo");
        run.shows("$ imbrik show rack:a")
            .shows("Will it start? 5 references, all found")
            .shows("$ imbrik save rack:a images")
            .shows("is whole")
            .shows("rack:c now holds hive-07")
            .shows("shrinks from 3.74 GB to 3.68 GB")
            .shows("rack:b now holds hive-07")
            .shows("rack:d now holds hive-07");
    }
    fs::create_dir(bench.path("mine")).unwrap();
    fs::write(bench.path("mine/letter"), "dear").unwrap();
    bench.imbrik("demo mine").expect(4).says("in use by something else");
    assert_eq!(bench.list("mine"), ["letter"]);
}

#[test]
fn the_demo_card_is_read_but_once() {
    let bench = Bench::empty();
    bench.good("demo");
    let saved = bench.good("--rack imbrik-demo/rack save rack:a x.img.zst --json").json();
    let (read, used) = (saved["card_bytes_read"].as_u64(), saved["used_bytes"].as_u64());
    assert!(read.unwrap() * 100 <= used.unwrap() * 105, "{saved}");
}
