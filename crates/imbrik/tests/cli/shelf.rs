//! Shelves: listing, thinning, and overdue images.

use crate::harness::{Bench, flip, tool};
use std::fs;

/// A shelf with an image for each of `days`, which is the age in days.
fn shelf(days: &[u64]) -> Bench {
    let bench = Bench::with_card("");
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("shelf make shelf").shows("Keeps 3 newest, 1 a day for 1 week");
    bench.good("save rack:a first.img.zst --no-check");
    for day in days {
        // The manifest records the time of the save, wherever its file came from.
        let now =
            tool!("date", "-u", "-d", format!("{day} days ago"), "+%Y-%m-%dT%H:%M:%S.000000000Z");
        let name = format!("shelf/night-{day}.img");
        bench.good(&format!("repack first.img.zst {name}"));
        let beside = bench.path(format!("{name}.manifest.json"));
        let text = fs::read_to_string(&beside).unwrap();
        let mut manifest: serde_json::Value = serde_json::from_str(&text).unwrap();
        manifest["made_at"] = now.trim().into();
        fs::write(beside, manifest.to_string()).unwrap();
    }
    bench
}

/// Fails if thinning removes images that a rule, a pin or a check keeps, keeps others, or leaves files of removed
/// images.
#[test]
fn thin_removes_images_only_by_the_rules() {
    let bench = shelf(&[0, 1, 2, 3, 40, 41, 400]);
    bench.good("shelf keep shelf").shows("1 a month");
    bench.imbrik("shelf keep shelf").expect(0);
    bench.imbrik("shelf keep shelf nonsense").expect(2).says("is not a rule");
    bench.run(["shelf", "keep", "shelf", "2 newest, all for 30 days"]).expect(0);
    bench.good("shelf pin shelf/night-400.img").shows("is pinned: no rule removes it");
    let run = bench.good("shelf thin shelf --plan").shows("2 images to remove, 5 kept");
    run.shows("Remove night-40.img").shows("Remove night-41.img").shows("Nothing was written");
    bench.imbrik("shelf thin shelf").expect(4).says("add --yes");
    // One that was checked is the last that was.
    bench.good("shelf check shelf --oldest 1").shows("OK night-400.img");
    let told = bench.good("shelf thin shelf --yes --json").json();
    assert_eq!(told["removed"].as_array().unwrap().len(), 2, "{told}");
    let left = bench.list("shelf");
    let left: Vec<_> = left.iter().map(|name| name.to_str().unwrap()).collect();
    assert!(!left.iter().any(|name| name.starts_with("night-4") && !name.starts_with("night-400")));
    assert_eq!(left.iter().filter(|name| name.ends_with(".img")).count(), 5, "{left:?}");
    let told = bench.good("shelf list shelf --json").json();
    let fates: Vec<_> = told["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["status"].as_str().unwrap())
        .collect();
    assert_eq!(fates, ["newest", "rule", "rule", "rule", "pinned"], "{told}");
    bench.good("shelf unpin shelf/night-400.img").shows("is unpinned");
    bench.good("shelf thin shelf --yes").shows("No image to remove");
}

/// Fails when another image is removed, a pinned one, or one without a question.
#[test]
fn one_image_is_removed_from_a_shelf() {
    let bench = shelf(&[5, 3]);
    bench.good("shelf pin shelf/night-3.img");
    bench.imbrik("shelf remove shelf/night-3.img --yes").expect(4).says("is pinned");
    bench.imbrik("shelf remove shelf/night-9.img --yes").expect(2).says("has no image");
    bench.imbrik("shelf remove shelf/night-5.img").expect(4).says("no terminal to ask on");
    let kept = bench.on_terminal("shelf remove shelf/night-5.img", "no\n");
    assert_eq!(kept.code, 4, "{kept:?}");
    assert!(bench.path("shelf/night-5.img").exists());
    bench.good("shelf remove shelf/night-5.img --yes").shows("1 other image of this card kept");
    let left = bench.list("shelf");
    let left: Vec<_> = left.iter().map(|name| name.to_str().unwrap()).collect();
    assert!(!left.iter().any(|name| name.starts_with("night-5")), "{left:?}");
    bench.good("shelf unpin shelf/night-3.img");
    bench.good("shelf remove shelf/night-3.img --yes --json").json();
    assert!(!bench.path("shelf/night-3.img").exists());
}

/// Fails if each night's image is checked and earlier ones never again, or a check with a wrong clock postpones the
/// next one.
#[test]
fn shelf_check_rotates_through_images() {
    let bench = shelf(&[5, 3]);
    bench.good("shelf check shelf");
    bench.good("shelf add shelf rack:a --check 1").shows("OK night-5.img");
    let remarks = bench.path("shelf/night-5.img.remarks.toml");
    let text = fs::read_to_string(&remarks).unwrap();
    let lines = text.lines().map(|line| match line.strip_prefix("checked") {
        Some(_) => "checked = \"2199-01-01T00:00:00Z\"",
        None => line,
    });
    fs::write(&remarks, lines.collect::<Vec<_>>().join("\n")).unwrap();
    bench.good("shelf check shelf --oldest 1").shows("OK night-5.img");
    bench.good("shelf check shelf --oldest 1").shows("OK night-3.img");
}

/// Fails if damage is not found, counts as an image, or is forgotten; or if something is overdue and the exit code is
/// 0.
#[test]
fn due_reports_overdue_and_damaged_images() {
    let bench = shelf(&[9, 50]);
    let run = bench.imbrik("shelf due shelf").expect(7);
    run.shows("hive-07 was last saved 9 days ago")
        .shows("night-50.img is never checked".replace("is never", "was never").as_str());
    bench.run(["shelf", "keep", "shelf", "--due", "14"]).expect(0).shows("for 14 days");
    bench.good("shelf check shelf").shows("2 images read and compared");
    bench.good("shelf due shelf").shows("Nothing is overdue");
    flip(&bench.path("shelf/night-9.img"), 34816 * 512 + 5000);
    let run = bench.imbrik("shelf check shelf").expect(3);
    run.shows("Damaged night-9.img").says("1 image is damaged and will not be reused");
    let told = bench.imbrik("shelf due shelf --json").expect(7).json();
    let what: Vec<_> = told["overdue"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["what"].as_str().unwrap())
        .collect();
    // The newest that is left is too old.
    assert_eq!(what, ["image", "damaged"], "{told}");
    fs::write(bench.path("shelf/cut.img.zst"), b"\x28\xb5\x2f\xfd cut").unwrap();
    bench.good("shelf list shelf").says("cut.img.zst is ignored");
    // A folder without its disk, an ordinary folder, and an invalid mark.
    fs::create_dir(bench.path("empty")).unwrap();
    bench.imbrik("shelf add empty rack:a").expect(4).says("its disk is not mounted");
    assert!(bench.list("empty").is_empty());
    bench.imbrik("shelf make shelf").expect(4).says("is a shelf already");
    fs::write(bench.path("empty/shelf.toml"), "keep = 3").unwrap();
    bench.imbrik("shelf list empty").expect(1).says("shelf.toml");
}

/// Fails if a second image costs as much as the first, a name finds another image, or two processes work on the shelf
/// at once.
#[test]
fn shelf_images_reuse_each_other_and_are_found_by_name() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 83886080\n");
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("shelf make shelf");
    bench.good("save rack:a shelf --note 1st");
    let run = bench.good("shelf add shelf rack:a --note 2nd --thin --check 1 --verbose");
    run.shows("Copied").shows("No image to remove").shows("1 image read and compared");
    let told = bench.good("save rack:a shelf --note 3rd --json").json();
    assert!(told["reused"]["tiles_reused"].as_u64().unwrap() > 0, "{told}");
    fs::create_dir_all(bench.path("config/imbrik")).unwrap();
    let folder = bench.path("shelf");
    fs::write(bench.path("config/imbrik/config.toml"), format!("images = {folder:?}\n")).unwrap();
    let name =
        bench.good("shelf list --json").json()["images"][0]["card"].as_str().unwrap().to_owned();
    bench.good(&format!("show {name}")).says("saved").shows("3rd");
    let shown = bench.good("show rack:a").shows("on the shelf: saved");
    shown.shows("at most").shows("3 images of it there");
    let other = bench.good("show rack:b").stdout;
    assert!(!other.contains("on the shelf"), "{other}");
    // Also among the cards, and before it is saved elsewhere.
    let cards = bench.good("cards --json").json();
    let of = |path: &str| {
        let all = cards["cards"].as_array().unwrap();
        all.iter().find(|card| card["path"] == path).unwrap()["shelf"].clone()
    };
    assert_eq!((of("rack:a")["images"].as_u64(), of("rack:b")), (Some(3), serde_json::Value::Null));
    bench.good("cards").shows("on the shelf: saved").shows("(0 min ago)");
    bench
        .good("save rack:a elsewhere.img.zst")
        .says("An image of this card is on the shelf: saved");
    let first =
        bench.good("shelf list --json").json()["images"][2]["image"].as_str().unwrap().to_owned();
    bench.good(&format!("shelf pin {first}"));
    bench.good(&format!("restore {name}@pinned rack:b --yes")).says("saved");
    let day = tool!("date", "+%Y-%m-%d");
    bench.good(&format!("check {name}@{}", day.trim()));
    bench.imbrik(&format!("check {name}@2026-01-01")).expect(2).says("has no image of");
    bench.good(&format!("shelf label {name}")).shows(&name);
    let held = std::fs::File::open(bench.path("shelf")).unwrap();
    rustix::fs::flock(&held, rustix::fs::FlockOperation::LockExclusive).unwrap();
    bench.imbrik("save rack:a shelf").expect(4).says("another run is at work on the shelf");
    bench.imbrik("shelf thin shelf").expect(4).says("another run is at work on the shelf");
}
