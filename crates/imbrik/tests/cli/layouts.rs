//! Cards of all layouts, on cards of all sizes: right by the system's checkers, with every file, or
//! refused with figures that are right.

use crate::harness::{Bench, Run, is_root, noise, put, sized, tool};
use std::{collections::BTreeMap, fs, path::Path};

const SECTOR: u64 = 512;
const MIB: u64 = 1 << 20;

/// A volume of a layout: its start and its length in MiB, and its recipe.
type Volume = (u64, u64, &'static str);

/// A card's layout.
struct Layout {
    name: &'static str,
    mib: u64,
    /// For sfdisk; nothing for a bare volume.
    table: &'static str,
    volumes: &'static [Volume],
}

const LAYOUTS: [Layout; 8] = [
    Layout {
        name: "fat-ext",
        mib: 160,
        table: "label: dos\nlabel-id: 0x48560007\nstart=4MiB,size=40MiB,type=c\nstart=44MiB,type=83\n",
        volumes: &[(4, 40, "fat32"), (44, 116, "ext4")],
    },
    Layout {
        name: "fat-ext-exfat",
        mib: 192,
        table: "label: dos\nstart=1MiB,size=16MiB,type=c\nstart=17MiB,size=100MiB,type=83\n\
                start=120MiB,type=7\n",
        volumes: &[(1, 16, "fat16"), (17, 100, "ext4"), (120, 72, "exfat")],
    },
    Layout {
        name: "gpt-swap",
        mib: 160,
        table: "label: gpt\nstart=4MiB,size=16MiB,name=boot\nstart=20MiB,size=24MiB,name=swap\n\
                start=44MiB,size=112MiB,name=root\n",
        volumes: &[(4, 16, "fat16"), (20, 24, "swap"), (44, 112, "ext4")],
    },
    Layout {
        name: "logicals",
        mib: 160,
        table: "label: dos\nstart=1MiB,size=20MiB,type=c\nstart=24MiB,type=5\n\
                start=25MiB,size=60MiB,type=83\nstart=87MiB,type=83\n",
        volumes: &[(1, 20, "fat16"), (25, 60, "ext4"), (87, 73, "ext4")],
    },
    Layout { name: "bare-ext", mib: 128, table: "", volumes: &[(0, 128, "ext4")] },
    Layout {
        name: "one-fat",
        mib: 160,
        table: "label: dos\nstart=1MiB,type=c\n",
        volumes: &[(1, 159, "fat32")],
    },
    Layout {
        name: "one-exfat",
        mib: 128,
        table: "label: dos\nstart=1MiB,type=7\n",
        volumes: &[(1, 127, "exfat")],
    },
    Layout {
        name: "gpt-hybrid",
        mib: 96,
        table: "label: gpt\nstart=4MiB,size=16MiB,name=boot\nstart=20MiB,size=72MiB,name=root\n",
        volumes: &[(4, 16, "fat16"), (20, 72, "ext4")],
    },
];

impl Layout {
    /// Returns whether the MBR of its GPT names the partitions, too.
    fn is_hybrid(&self) -> bool {
        self.name == "gpt-hybrid"
    }

    /// The card as a raw image, with files in every volume and marks in every gap.
    fn make(&self, bench: &Bench) {
        let card = bench.path("card.img");
        sized(&card, self.mib * MIB);
        if !self.table.is_empty() {
            // Boot code in the gap, and before every partition but those of a chain.
            put(&card, 64 * SECTOR, &noise(6000));
            fs::write(bench.path("table"), self.table).unwrap();
            tool!(
                "sh",
                "-c",
                format!("cd {} && sfdisk -q card.img < table", bench.path("").display())
            );
        }
        if self.is_hybrid() {
            tool!("sgdisk", "-h", "1:2", &card);
        }
        let files = bench.path("files");
        for n in 0..40usize {
            fs::create_dir_all(files.join(format!("day {}", n % 7))).unwrap();
            fs::write(files.join(format!("day {}/night {n}.wav", n % 7)), noise(n * 3500)).unwrap();
        }
        for (index, (start, len, kind)) in self.volumes.iter().enumerate() {
            let at = bench.path("volume");
            let _ = fs::remove_file(&at);
            sized(&at, len * MIB);
            let (hidden, label) = ((start * 2048).to_string(), format!("HIVE{index}"));
            match *kind {
                "ext4" => drop(tool!("mkfs.ext4", "-q", "-L", label, "-d", files, at)),
                "swap" => drop(tool!("mkswap", "-q", "-L", label, at)),
                "exfat" => {
                    tool!("mkfs.exfat", "-L", label, "-c", "4K", at);
                    with_exfat(bench, &at, "rw", |dir| {
                        tool!("cp", "-r", files.join("day 1"), files.join("day 2"), dir);
                    });
                }
                fat => {
                    let per = if fat == "fat32" { "1" } else { "4" };
                    let bits = fat.trim_start_matches("fat");
                    tool!("mkfs.vfat", "-F", bits, "-s", per, "-h", hidden, "-n", label, at);
                    tool!(
                        "mcopy",
                        "-s",
                        "-m",
                        "-i",
                        at,
                        files.join("day 3"),
                        files.join("day 4"),
                        "::"
                    );
                }
            }
            put(&card, start * MIB, &fs::read(&at).unwrap());
        }
    }
}

/// Calls `work` with an exFAT volume mounted.
fn with_exfat(bench: &Bench, volume: &Path, options: &str, work: impl FnOnce(&Path)) {
    let at = bench.path("mounted");
    fs::create_dir_all(&at).unwrap();
    let device = tool!("losetup", "-f", "--show", volume).trim().to_owned();
    tool!("mount.exfat-fuse", "-o", options, &device, at);
    work(&at);
    tool!("umount", at);
    let line = "for i in $(seq 200); do fuser -s $0 || break; sleep 0.02; done; losetup -d $0; \
                for i in $(seq 200); do losetup $0 2>/dev/null || break; sleep 0.02; done";
    tool!("sh", "-c", line, &device);
}

/// The content of each volume of a card, and the gaps; the checkers find nothing.
fn judged(bench: &Bench, card: &str, layout: &Layout) -> (Vec<String>, Vec<u8>) {
    let path = bench.path(card);
    if !layout.table.is_empty() {
        let said = tool!("sh", "-c", "sfdisk --verify $0 2>&1", &path);
        assert!(said.contains("No errors detected"), "{card}: {said}");
        if layout.table.contains("gpt") {
            assert!(tool!("sgdisk", "-v", &path).contains("No problems found"), "{card}");
        }
        if layout.is_hybrid() {
            let list = |kind: &str| {
                tool!("fdisk", "-t", kind, "-l", "-o", "Start,End", &path)
                    .lines()
                    .map(|line| line.split_whitespace().collect::<Vec<_>>().join(" "))
                    .filter(|line| line.starts_with(|c: char| c.is_ascii_digit()))
                    .collect::<Vec<_>>()
            };
            let (gpt, mbr) = (list("gpt"), list("dos"));
            let start = gpt[0].split(' ').next().unwrap().parse::<u64>().unwrap();
            assert_eq!(mbr, [vec![format!("1 {}", start - 1)], gpt].concat(), "{card}");
        }
    }
    let listed = bench.good(&format!("show {card} --json")).json();
    let parts = listed["content"]["partitions"].as_array().unwrap().clone();
    assert_eq!(parts.len(), layout.volumes.len(), "{card}");
    let file = fs::File::open(&path).unwrap();
    let read = |start: u64, len: u64| {
        use std::os::unix::fs::FileExt;
        let mut bytes = vec![0; len as usize];
        file.read_exact_at(&mut bytes, start).unwrap();
        bytes
    };
    let mut trees = Vec::new();
    for (part, (_, _, kind)) in parts.iter().zip(layout.volumes) {
        let (start, len) = (part["start"].as_u64().unwrap(), part["size"].as_u64().unwrap());
        let volume = bench.path("judged");
        let _ = fs::remove_file(&volume);
        let line = format!(
            "dd if='{}' of='{}' bs=1M iflag=skip_bytes,count_bytes skip={start} count={len} \
             conv=sparse status=none; truncate -s {len} '{}'",
            path.display(),
            volume.display(),
            volume.display()
        );
        tool!("sh", "-c", line);
        let list = "find . -type f -print0 | sort -z | xargs -0 -r b2sum";
        let out = bench.path("judged-files");
        let _ = fs::remove_dir_all(&out);
        fs::create_dir(&out).unwrap();
        trees.push(match *kind {
            "ext4" => {
                tool!("e2fsck", "-fn", volume);
                tool!("mount", "-o", "loop,ro", &volume, &out);
                let attributes = "find . -printf '%p %M %U %G %s %T@\n' | sort";
                let tree = tool!("sh", "-c", format!("cd $0; {attributes}; {list}"), &out);
                tool!(
                    "sh",
                    "-c",
                    "for i in $(seq 99); do umount $0 && break; sleep 0.02; done",
                    &out
                );
                tree
            }
            "swap" => tool!("blkid", "-p", "-o", "value", "-s", "UUID", "-s", "LABEL", volume),
            "exfat" => {
                let said = tool!("fsck.exfat", "-n", &volume);
                assert!(said.contains("clean"), "{card}: {said}");
                let mut tree = String::new();
                with_exfat(bench, &volume, "ro", |dir| {
                    tree = tool!("sh", "-c", format!("cd $0; {list}"), dir);
                });
                tree
            }
            _ => {
                tool!("fsck.fat", "-n", &volume);
                let hidden = u32::from_le_bytes(read(start + 28, 4).try_into().unwrap());
                assert_eq!(u64::from(hidden), start / SECTOR, "{card}: hidden sectors");
                tool!(
                    "mcopy",
                    "-m",
                    "-s",
                    "-n",
                    "-i",
                    &volume,
                    "::",
                    format!("{}/", out.display())
                );
                tool!("sh", "-c", format!("cd $0; {list}"), out)
            }
        });
    }
    // The gap in front, without the table itself.
    let first = parts[0]["start"].as_u64().unwrap();
    let gap = if first > 64 * SECTOR { read(64 * SECTOR, first - 64 * SECTOR) } else { Vec::new() };
    (trees, gap)
}

/// The bytes that a refusal calls missing.
fn missing(run: &Run) -> u64 {
    let words = run.stderr.split(" too small").next().unwrap();
    let inside = words.rsplit_once('(').map(|(_, rest)| rest).unwrap_or(words);
    let digits: String = inside.chars().filter(char::is_ascii_digit).collect();
    let plain = words.rsplit(" is ").next().unwrap();
    if plain.contains('(') {
        digits.parse().unwrap()
    } else {
        plain.chars().filter(char::is_ascii_digit).collect::<String>().parse().unwrap()
    }
}

fn goes_everywhere(layout: &Layout) {
    let test = "cards of all layouts";
    if !is_root(test) {
        return;
    }
    let bench = Bench::empty();
    layout.make(&bench);
    let size = layout.mib * MIB;
    let (before, gap) = judged(&bench, "card.img", layout);
    let sizes = BTreeMap::from([
        ("half", size / 2),
        ("a few sectors less", size - 7 * SECTOR),
        ("less", size / 100 * 99 / SECTOR * SECTOR),
        ("same", size),
        ("more", size / 100 * 101 / SECTOR * SECTOR),
        ("four", size * 4),
        ("sixteen", size * 16),
    ]);
    fs::create_dir(bench.path("rack")).unwrap();
    let slot = |name: &str, size: u64| format!("[[slot]]\nname = \"{name}\"\nsize = {size}\n");
    fs::hard_link(bench.path("card.img"), bench.path("rack/a.img")).unwrap();
    let words = "restore card.img rack:b --yes --fill";
    for (name, size) in sizes {
        let mut size = size;
        let card = layout.mib * MIB;
        let rack = |size| bench.write_rack(&[slot("a", card), slot("b", size)].concat());
        rack(size);
        let _ = fs::remove_file(bench.path("rack/b.img"));
        let what = format!("{} on {name}", layout.name);
        let mut run = bench.imbrik(words);
        if run.code == 5 {
            // The reported missing space is enough, and a sector less is not.
            let shortfall = missing(&run);
            for (more, fits) in [(shortfall - SECTOR, false), (shortfall, true)] {
                rack(size + more);
                let _ = fs::remove_file(bench.path("rack/b.img"));
                run = bench.imbrik(words);
                assert_eq!(run.code, if fits { 0 } else { 5 }, "{what}: {more} more: {run:?}");
            }
            size += shortfall;
        }
        assert_eq!(run.code, 0, "{what}: {run:?}");
        assert_eq!(fs::metadata(bench.path("rack/b.img")).unwrap().len(), size, "{what}");
        fs::rename(bench.path("rack/b.img"), bench.path("b.img")).unwrap();
        let (after, gap_after) = judged(&bench, "b.img", layout);
        assert!(after == before, "{what}: the files differ");
        assert!(gap_after == gap, "{what}: the gap differs");
        // A bigger card is filled, limited by the growth of the last volume.
        let listed = bench.good("show b.img --json").json();
        let last = listed["content"]["partitions"].as_array().unwrap().last().unwrap().clone();
        let end = last["start"].as_u64().unwrap() + last["size"].as_u64().unwrap();
        assert!(end + 2 * MIB > size || run.out_has("let it grow"), "{what}: {end} {run:?}");
        // The card gives the same result as its image.
        bench.good("clone rack:a rack:b --yes --fill");
        tool!("cmp", bench.path("b.img"), bench.path("rack/b.img"));
    }
}

#[test]
fn fat_and_ext_card_converts_to_every_size() {
    goes_everywhere(&LAYOUTS[0]);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn fat_ext_and_exfat_card_converts_to_every_size() {
    goes_everywhere(&LAYOUTS[1]);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn gpt_with_swap_converts_to_every_size() {
    goes_everywhere(&LAYOUTS[2]);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn logical_partitions_convert_to_every_size() {
    goes_everywhere(&LAYOUTS[3]);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn bare_ext_and_single_volumes_convert_to_every_size() {
    LAYOUTS[4..7].iter().for_each(goes_everywhere);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn hybrid_of_two_tables_converts_to_every_size() {
    goes_everywhere(&LAYOUTS[7]);
}

#[test]
fn hybrid_with_differing_tables_is_kept_unchanged() {
    if !is_root("hybrid_with_differing_tables_is_kept_unchanged") {
        return;
    }
    let bench = Bench::empty();
    LAYOUTS[7].make(&bench);
    let shown = bench.good("show card.img");
    assert!(!shown.out_has("name different partitions"), "{shown:?}");
    // The MBR's second partition is one sector longer.
    let mut card = fs::read(bench.path("card.img")).unwrap();
    card[446 + 32 + 12] ^= 1;
    fs::write(bench.path("card.img"), card).unwrap();
    bench.good("show card.img").shows("(a hybrid) name different partitions");
    let run = bench.imbrik("fit card.img small.img.zst");
    run.expect(1).says("(a hybrid) name different partitions");
}

/// The offsets and lengths of the partitions of a card.
fn places(bench: &Bench, card: &str) -> Vec<(u64, u64)> {
    let listed = bench.good(&format!("show {card} --json")).json();
    let parts = listed["content"]["partitions"].as_array().unwrap().clone();
    let of = |part: &serde_json::Value, key: &str| part[key].as_u64().unwrap();
    parts.iter().map(|part| (of(part, "start"), of(part, "size"))).collect()
}

#[test]
fn grow_and_shrink_options_choose_partitions() {
    if !is_root("grow_and_shrink_options_choose_partitions") {
        return;
    }
    let bench = Bench::empty();
    let layout = &LAYOUTS[1];
    layout.make(&bench);
    fs::create_dir(bench.path("rack")).unwrap();
    let slots = [("b", 160), ("c", 400)]
        .map(|(name, mib)| format!("[[slot]]\nname = \"{name}\"\nsize = {}\n", mib * MIB));
    bench.write_rack(&slots.concat());
    let before = places(&bench, "card.img");
    let (files, _) = judged(&bench, "card.img", layout);
    let to = |words: &str, out: &str| {
        bench.good(words);
        let from = bench.path("rack").join(out);
        fs::copy(from, bench.path("out.img")).unwrap();
        let (after, _) = judged(&bench, "out.img", layout);
        assert!(after == files, "{words}: the files differ");
        places(&bench, "out.img")
    };
    // Only the second gives, though the last could.
    let now = to("restore card.img rack:b --yes --take-from 2", "b.img");
    assert_eq!((now[0], now[2].1), (before[0], before[2].1));
    assert!(now[1].1 < before[1].1 && now[2].0 < before[2].0);
    // The first can give, but not enough alone.
    let run = bench.imbrik("restore card.img rack:b --yes --take-from HIVE0");
    run.expect(5).says("were not allowed to shrink").says("Nothing was written");
    // The second grows into the remaining space, and the last moves.
    let now = to("restore card.img rack:c --yes --give-to 2", "c.img");
    assert_eq!((now[0], now[2].1), (before[0], before[2].1));
    assert!(now[1].1 > before[1].1 + 190 * MIB, "{now:?}");
    assert!(now[2].0 + now[2].1 > 396 * MIB, "{now:?}");
    // Without a word, all keep their places: a raw image doesn't say that it reached its end.
    assert_eq!(to("restore card.img rack:c --yes", "c.img"), before);
    for (words, code) in [
        ("restore card.img rack:c --yes --give-to 9", 2),
        ("restore card.img rack:c --yes --give-to 2 --keep-size", 2),
        ("restore card.img rack:b --yes --keep-size", 5),
        ("restore card.img rack:b --yes --take-from none", 2),
    ] {
        bench.imbrik(words).expect(code);
    }
}

#[test]
fn fit_accepts_labelled_card_sizes() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 60000256\n");
    bench.good("save rack:a hive.img.zst");
    let len = |name: &str| {
        let shown = bench.good(&format!("show {name} --json")).json();
        shown["size"].as_u64().unwrap()
    };
    bench.good("fit hive.img.zst one.img.zst --for rack:b");
    assert_eq!(len("one.img.zst"), 60_000_256);
    let run = bench.good("fit hive.img.zst two.img.zst --to 1card");
    run.shows("Fits      cards of 900 MB");
    assert_eq!(len("two.img.zst"), 900_000_000 / 512 * 512);
    bench.good("fit hive.img.zst three.img.zst --smallest");
    bench.good("fit hive.img.zst four.img.zst --room 0B");
    assert_eq!(len("three.img.zst"), len("four.img.zst"));
    bench.imbrik("fit hive.img.zst x.img.zst --to bigcard").expect(2);
    bench.imbrik("fit hive.img.zst x.img.zst --for rack:z").expect(2);
    bench.imbrik("fit hive.img.zst x.img.zst --for rack:b --to 1GB").expect(2);
    // Which of the cards that are plugged in would change how.
    assert!(!bench.good("show hive.img.zst").out_has("rack:b"));
    let shown = bench.good("show hive.img.zst --cards");
    shown.shows("rack:b").shows("60 MB  partition 2 (ext4, hive-07) shrinks by").shows("rack:a");
}
