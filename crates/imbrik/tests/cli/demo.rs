//! `imbrik demo`

use crate::harness::Bench;
use std::fs;

#[test]
#[ignore = "long: run by ./test --full"]
fn demo_runs_twice_and_keeps_foreign_folders() {
    let bench = Bench::empty();
    for _ in 0..2 {
        let run = bench.good("demo");
        run.shows("$ imbrik show rack:a")
            .shows("Boot references 5 of 5 found, in extlinux/extlinux.conf, etc/fstab")
            .shows("$ imbrik save rack:a images")
            .shows("is intact")
            .shows("rack:c now holds hive-07")
            .shows("3.68 GB  shrinks from 3.74 GB")
            .shows("rack:b now holds hive-07")
            .shows("rack:d now holds hive-07")
            .shows("kept their data")
            .shows("20.5 kB of 73.6 kB of /home/keeper/hive/sounds/brood-3.wav")
            .shows("512 bytes of 700 kB of /usr/lib/hive-monitor")
            .shows("Mended 21 kB (20.5 KiB) of 21 kB missing")
            .shows("brood at 34.6 degrees, all well")
            .shows("added /home/keeper/hive/calibration.toml 45 bytes");
    }
    assert_eq!(
        bench.list("imbrik-demo/images").len(),
        7,
        "three images, each with what is beside it, and a calibration to put in"
    );
    fs::create_dir(bench.path("mine")).unwrap();
    fs::write(bench.path("mine/letter"), "dear").unwrap();
    bench.imbrik("demo mine").expect(4).says("in use by something else");
    assert_eq!(bench.list("mine"), ["letter"]);
}

#[test]
fn demo_card_is_read_once() {
    let bench = Bench::empty();
    bench.good("demo");
    let saved = bench.good("--rack imbrik-demo/rack save rack:a x.img.zst --json").json();
    let (read, used) = (saved["card_bytes_read"].as_u64(), saved["used_bytes"].as_u64());
    assert!(read.unwrap() * 100 <= used.unwrap() * 105, "{saved}");
}

/// Fails if a second demo removes files of the user.
#[test]
#[ignore = "long: run by ./test --full"]
fn demo_replaces_only_its_own_files() {
    let bench = Bench::empty();
    bench.good("demo");
    let ours = bench.list("imbrik-demo/images");
    for name in ["images/night.img.zst", "rack/spare.img", "images/aaa.zst", "notes"] {
        fs::write(bench.path("imbrik-demo").join(name), "mine").unwrap();
    }
    bench.good("--rack imbrik-demo/rack save rack:a imbrik-demo/images/of-mine.img.zst");
    let size = fs::metadata(bench.path("imbrik-demo/images/of-mine.img.zst")).unwrap().len();
    let run = bench.good("demo");
    run.shows("rack:d now holds hive-07");
    for name in ["images/night.img.zst", "rack/spare.img", "images/aaa.zst", "notes"] {
        assert_eq!(fs::read(bench.path("imbrik-demo").join(name)).unwrap(), b"mine", "{name}");
    }
    assert_eq!(fs::metadata(bench.path("imbrik-demo/images/of-mine.img.zst")).unwrap().len(), size);
    let now = bench.list("imbrik-demo/images");
    assert!(ours.iter().all(|name| now.contains(name)), "{ours:?} {now:?}");
    // A changed rack belongs to the user.
    let rack = bench.path("imbrik-demo/rack/rack.toml");
    let text = fs::read_to_string(&rack).unwrap() + "\n[[slot]]\nname = \"h\"\nsize = 1000000\n";
    fs::write(&rack, &text).unwrap();
    bench.imbrik("demo").expect(4).says("rack.toml was changed");
    assert_eq!(fs::read_to_string(&rack).unwrap(), text);
}
