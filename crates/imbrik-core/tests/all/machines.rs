//! Listing cards on simulated machines: sysfs, mount table, swap list and device database in a temporary folder.

use crate::support::{is_root, sh};
use imbrik_core::{
    Class,
    card::{Bus, Card, Host, LinuxHost, Reason, Roots, Standing, Use, standing},
    units::ByteLen,
};
use std::{
    fs,
    os::unix::fs::symlink,
    path::{Path, PathBuf},
    sync::{Mutex, PoisonError},
};
use tempfile::TempDir;

/// A machine in the making.
struct Machine {
    root: TempDir,
    minor: u32,
    mounts: String,
    swaps: String,
}

impl Machine {
    fn new() -> Self {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir_all(root.path().join("sys/block")).unwrap();
        fs::create_dir_all(root.path().join("dev")).unwrap();
        let swaps = "Filename Type Size Used Priority\n".to_owned();
        Self { root, minor: 0, mounts: String::new(), swaps }
    }

    fn write(&self, path: impl AsRef<Path>, text: &str) {
        let path = self.root.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, format!("{text}\n")).unwrap();
    }

    fn number(&mut self) -> String {
        self.minor += 1;
        format!("8:{}", self.minor)
    }

    /// A block device whose hardware is at `place` under sys/devices.
    fn disk(&mut self, name: &str, place: &str, sectors: u64, files: &[(&str, &str)]) -> &mut Self {
        let real = PathBuf::from("sys/devices").join(place).join("block").join(name);
        let number = self.number();
        self.write(real.join("dev"), &number);
        self.write(real.join("size"), &sectors.to_string());
        self.write(real.join("ro"), "0");
        self.write(real.join("removable"), "0");
        for (file, text) in files {
            self.write(real.join(file), text);
        }
        symlink(self.root.path().join(&real), self.root.path().join("sys/block").join(name))
            .unwrap();
        self.write(Path::new("dev").join(name), "");
        self
    }

    fn part(&mut self, whole: &str, name: &str, start: u64, sectors: u64) -> &mut Self {
        let folder = Path::new("sys/block").join(whole).join(name);
        let number = self.number();
        let digits = name.rsplit(|c: char| !c.is_ascii_digit()).next().unwrap();
        self.write(folder.join("dev"), &number);
        self.write(folder.join("partition"), digits);
        self.write(folder.join("start"), &start.to_string());
        self.write(folder.join("size"), &sectors.to_string());
        self.write(Path::new("dev").join(name), "");
        self
    }

    fn usb(&mut self, place: &str, serial: Option<&str>, speed: &str) -> &mut Self {
        let folder = Path::new("sys/devices").join(place);
        self.write(folder.join("idVendor"), "1209");
        self.write(folder.join("speed"), speed);
        if let Some(serial) = serial {
            self.write(folder.join("serial"), serial);
        }
        self
    }

    fn mount(&mut self, number: &str, source: &str, at: &str) -> &mut Self {
        self.mounts += &format!("30 1 {number} / {at} rw,noatime shared:1 - ext4 {source} rw\n");
        self
    }

    fn held(&mut self, device: &str, by: &str) -> &mut Self {
        self.write(Path::new("sys/block").join(device).join("holders").join(by), "");
        self
    }

    fn host(&self) -> LinuxHost {
        self.write("proc/self/mountinfo", &self.mounts);
        self.write("proc/swaps", &self.swaps);
        LinuxHost::new(Roots::under(self.root.path()))
    }

    fn cards(&self) -> Vec<Card> {
        self.host().list().unwrap().cards
    }

    fn card(&self, name: &str) -> Card {
        let path = self.root.path().join("dev").join(name);
        self.cards().into_iter().find(|card| card.path == path).unwrap()
    }
}

const USB: &str = "pci0000:00/0000:00:14.0/usb2/2-1";
const READER: &str = "pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:0";
const SECOND_SLOT: &str = "pci0000:00/0000:00:14.0/usb2/2-1/2-1:1.0/host6/target6:0:0/6:0:0:1";

/// A laptop: NVMe with the system, a USB reader with a card in one of its two slots.
fn laptop() -> Machine {
    let mut machine = Machine::new();
    let nvme = "pci0000:00/0000:01:00.0/nvme/nvme0";
    machine
        .disk(
            "nvme0n1",
            nvme,
            1_000_215_216,
            &[("device/model", "Fern 512G"), ("device/serial", "F1")],
        )
        .part("nvme0n1", "nvme0n1p1", 2048, 1_048_576)
        .part("nvme0n1", "nvme0n1p2", 1_050_624, 999_000_000)
        .usb(USB, Some("00000123"), "480");
    let removable = [("removable", "1"), ("device/vendor", "Willow"), ("device/model", "Reader 2")];
    machine
        .disk("sda", READER, 31_116_288, &removable)
        .part("sda", "sda1", 8192, 524_288)
        .part("sda", "sda2", 532_480, 30_583_808)
        .disk("sdb", SECOND_SLOT, 0, &removable)
        .mount("8:2", "/dev/nvme0n1p1", "/boot/efi")
        .mount("0:35", "/dev/nvme0n1p2", "/");
    machine
}

#[test]
fn a_card_in_a_usb_reader() {
    let machine = laptop();
    machine.write(
        "run/udev/data/b8:5",
        "S:disk/by-label/HIVE-BOOT\nE:ID_FS_TYPE=vfat\nE:ID_FS_LABEL=HIVE-BOOT",
    );
    let listing = machine.host().list().unwrap();
    assert_eq!((listing.cards.len(), listing.empty_slots), (2, 1));
    let card = machine.card("sda");
    assert_eq!(card.id, "usb-00000123");
    assert_eq!(card.size, ByteLen::new(15_931_539_456));
    assert_eq!((card.bus.clone(), card.removable), (Bus::Usb(Some(480)), true));
    assert_eq!(card.model.as_deref(), Some("Willow Reader 2"));
    let parts: Vec<_> = card.partitions.iter().map(|p| (p.number, p.label.as_deref())).collect();
    assert_eq!(parts, [(1, Some("HIVE-BOOT")), (2, None)]);
    assert_eq!(standing(&card, false), Standing::Ready);
}

#[test]
fn second_slot_of_a_reader_has_a_separate_id() {
    let mut machine = laptop();
    machine.write(format!("sys/devices/{SECOND_SLOT}/block/sdb/size"), "1000");
    assert_eq!(machine.card("sdb").id, "usb-00000123-slot1");
    // Two readers of one maker, with the same number in both.
    let other = "pci0000:00/0000:00:14.0/usb2/2-2";
    machine.usb(other, Some("00000123"), "480");
    let place = format!("{other}/2-2:1.0/host7/target7:0:0/7:0:0:0");
    machine.disk("sdc", &place, 1000, &[("removable", "1")]);
    assert_eq!(machine.card("sda").id, "usb-00000123-at-sda");
    assert_eq!(machine.card("sdc").id, "usb-00000123-at-sdc");
}

#[test]
fn reader_without_a_serial_number_is_identified_by_its_port() {
    let mut machine = Machine::new();
    machine.usb(USB, None, "5000").disk("sda", READER, 1000, &[("removable", "1")]);
    let card = machine.card("sda");
    assert_eq!((card.id.as_str(), card.bus), ("usb-at-2-1", Bus::Usb(Some(5000))));
}

#[test]
fn system_disk_is_identified_by_device_number_or_source() {
    let machine = laptop();
    for allow_fixed in [false, true] {
        assert!(matches!(
            standing(&machine.card("nvme0n1"), allow_fixed),
            Standing::Refused(Reason::System(_))
        ));
    }
    // btrfs: the device number is virtual, so the source of the mount is used.
    let mut only_root = Machine::new();
    only_root
        .disk("nvme0n1", "pci0000:00/nvme/nvme0", 1000, &[])
        .part("nvme0n1", "nvme0n1p2", 10, 100)
        .mount("0:35", "/dev/nvme0n1p2", "/");
    assert!(matches!(
        standing(&only_root.card("nvme0n1"), true),
        Standing::Refused(Reason::System(_))
    ));
}

#[test]
fn a_board_with_an_sd_slot_and_an_emmc_with_boot_parts() {
    let mut machine = Machine::new();
    let emmc = "platform/soc/mmc0/mmc_host/mmc0/mmc0:0001";
    let sd = "platform/soc/mmc1/mmc_host/mmc1/mmc1:aaaa";
    machine
        .disk("mmcblk0", emmc, 60_000, &[("device/type", "MMC"), ("device/serial", "0x00aa")])
        .disk("mmcblk0boot0", emmc, 8192, &[])
        .disk("mmcblk0boot1", emmc, 8192, &[])
        .disk("mmcblk0rpmb", emmc, 8192, &[])
        .disk(
            "mmcblk1",
            sd,
            31_116_288,
            &[
                ("device/type", "SD"),
                ("device/serial", "0x1a2b3c4d"),
                ("device/name", "SORRL"),
                ("diskseq", "9"),
            ],
        )
        .part("mmcblk1", "mmcblk1p1", 8192, 1000);
    assert_eq!(machine.cards().len(), 2, "boot areas are no cards");
    let emmc = machine.card("mmcblk0");
    assert_eq!(emmc.boot_areas, ["mmcblk0boot0", "mmcblk0boot1"]);
    assert_eq!(emmc.id, "emmc-00aa");
    assert!(matches!(standing(&emmc, false), Standing::Fixed(_)));
    let card = machine.card("mmcblk1");
    assert_eq!((card.id.as_str(), card.bus.clone()), ("sd-1a2b3c4d", Bus::SdSlot));
    assert_eq!((card.model.as_deref(), card.sequence), (Some("SORRL"), Some(9)));
    assert_eq!(card.partitions[0].device, "mmcblk1p1");
    assert_eq!(standing(&card, false), Standing::Ready);
}

#[test]
fn device_mapper_layers_hold_a_card_and_are_named() {
    let mut machine = laptop();
    machine
        .disk("dm-0", "virtual", 1000, &[])
        .disk("dm-1", "virtual", 1000, &[])
        .held("sda/sda2", "dm-0")
        .held("dm-0", "dm-1");
    let held = Reason::Held { device: "dm-0".into(), by: "dm-1".into() };
    assert_eq!(standing(&machine.card("sda"), true), Standing::Refused(held));
    assert!(machine.cards().iter().all(|card| !card.path.ends_with("dm-0")));
    // The root filesystem on encryption on LVM on the stick: two layers down.
    machine.mount("8:9", "/dev/mapper/root", "/usr");
    let found = standing(&machine.card("sda"), true);
    assert!(matches!(found, Standing::Refused(Reason::System(_))), "{found:?}");
}

#[test]
fn swap_and_mount_points_with_spaces_are_found() {
    let mut machine = laptop();
    machine.mount("8:5", "/dev/sda1", "/media/keeper/HIVE\\040BOOT");
    let card = machine.card("sda");
    assert_eq!(card.mounts(), [PathBuf::from("/media/keeper/HIVE BOOT")]);
    assert!(matches!(standing(&card, false), Standing::Mounted(_)));
    machine.swaps += "/dev/sda2 partition 100 0 -2\n";
    let card = machine.card("sda");
    assert!(card.uses.contains(&Use::Swap { device: "sda2".into() }), "{:?}", card.uses);
    assert!(matches!(standing(&card, true), Standing::Refused(Reason::System(_))));
}

#[test]
fn a_loop_device_stands_for_a_file_and_may_hold_a_card() {
    let mut machine = laptop();
    machine
        .disk("loop0", "virtual", 1000, &[("loop/backing_file", "/home/keeper/x.img")])
        .disk("loop1", "virtual", 0, &[])
        .disk("loop2", "virtual", 1000, &[("loop/backing_file", "/dev/sda")]);
    let listing = machine.host().list().unwrap();
    assert_eq!(listing.empty_slots, 1, "an unused loop device is no empty slot");
    let file = machine.card("loop0");
    assert_eq!(file.bus, Bus::Loop("/home/keeper/x.img".into()));
    assert!(matches!(standing(&file, false), Standing::Fixed(_)));
    assert_eq!(standing(&file, true), Standing::Ready);
    let held = Reason::Held { device: "sda".into(), by: "loop2".into() };
    assert_eq!(standing(&machine.card("sda"), true), Standing::Refused(held));
}

#[test]
fn virtual_disks_are_classified_like_others() {
    let mut machine = Machine::new();
    machine
        .disk("vda", "pci0000:00/0000:00:04.0/virtio1", 1000, &[("serial", "root-7")])
        .disk("vdb", "pci0000:00/0000:00:05.0/virtio2", 1000, &[])
        .disk("xvdc", "vbd-51744", 1000, &[("removable", "1")])
        .disk("zram0", "virtual", 1000, &[])
        .disk("sr0", "pci0000:00/ata1", 1000, &[("removable", "1")])
        .mount("8:1", "/dev/vda", "/");
    let names: Vec<_> = machine.cards().iter().map(|card| card.id.clone()).collect();
    assert_eq!(names, ["disk-root-7", "disk-vdb", "disk-xvdc"]);
    assert!(matches!(standing(&machine.card("vda"), true), Standing::Refused(_)));
    assert_eq!(standing(&machine.card("vdb"), false), Standing::Fixed("a virtual disk"));
    assert_eq!(standing(&machine.card("xvdc"), false), Standing::Ready);
}

#[test]
fn a_write_protected_card_and_a_partition_path() {
    let mut machine = Machine::new();
    machine
        .usb(USB, Some("7"), "480")
        .disk("sda", READER, 1000, &[("removable", "1"), ("ro", "1")])
        .part("sda", "sda1", 8, 100);
    let card = machine.card("sda");
    assert_eq!(standing(&card, true), Standing::Refused(Reason::ReadOnly));
    let host = machine.host();
    assert_eq!(host.card_of("sda1"), Some((card.path.clone(), true)));
    assert_eq!(host.card_of("sda"), Some((card.path, false)));
    assert_eq!(host.card_of("sdz"), None);
}

#[test]
fn card_of_a_folder_is_found_by_the_longest_mount_point() {
    let mut machine = laptop();
    machine.mount("8:6", "/dev/sda2", "/media/keeper/root");
    let host = machine.host();
    let card = machine.card("sda").path;
    assert_eq!(host.card_under(Path::new("/media/keeper/root/x.img")), Some(card));
    let system = machine.card("nvme0n1").path;
    assert_eq!(host.card_under(Path::new("/media/keeper/rootless/x.img")), Some(system));
}

#[test]
fn missing_sysfs_is_an_error_and_not_an_empty_list() {
    let root = tempfile::tempdir().unwrap();
    let host = LinuxHost::new(Roots::under(root.path()));
    let error = host.list().unwrap_err().to_string();
    assert!(error.contains("mountinfo"), "{error}");
}

/// While one test exchanges the file of a loop device, no other may attach the next free one.
static LOOPS: Mutex<()> = Mutex::new(());

/// A real loop device, detached when dropped.
struct Loop(String);

impl Loop {
    fn on(file: &str, dir: &Path) -> Self {
        Self(sh(&format!("losetup -f --show {file}"), dir).trim().to_owned())
    }

    fn card(&self) -> Card {
        let cards = LinuxHost::default().list().unwrap().cards;
        cards.into_iter().find(|card| card.path == Path::new(&self.0)).unwrap()
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        sh(&format!("losetup -d {}", self.0), Path::new("/"));
    }
}

/// Fails when a card that is read can be mounted meanwhile, or one that is mounted cannot be read.
#[test]
fn exclusively_opened_card_cannot_be_mounted() {
    if !is_root("exclusively_opened_card_cannot_be_mounted") {
        return;
    }
    let _alone = LOOPS.lock().unwrap_or_else(PoisonError::into_inner);
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh("truncate -s 16M v; mke2fs -q v; mkdir m", at);
    let device = Loop::on("v", at);
    let (card, host) = (device.card(), LinuxHost::default());
    let mount = format!("mount {} m", device.0);
    let held = host.hold_source(&card).unwrap();
    sh(&format!("! {mount} 2>/dev/null"), at);
    // Opening it read-only excludes nobody.
    drop(held);
    let looked_at = host.open_source(&card).unwrap();
    // Processes that other tests start may have the device open for a moment.
    sh(&format!("for n in $(seq 99); do {mount} && break; sleep 0.02; done; mountpoint -q m"), at);
    drop(looked_at);
    let held = host.hold_source(&card).unwrap();
    assert_eq!(held.size(), ByteLen::mib(16));
    drop(held);
    sh("for n in $(seq 99); do umount m && break; sleep 0.02; done", at);
}

/// Fails when another card that took the name of the first is read for it.
#[test]
fn opening_detects_an_exchanged_card() {
    if !is_root("opening_detects_an_exchanged_card") {
        return;
    }
    let _alone = LOOPS.lock().unwrap_or_else(PoisonError::into_inner);
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh("truncate -s 16M v w; truncate -s 17M x", at);
    let device = Loop::on("v", at);
    let (card, host) = (device.card(), LinuxHost::default());
    for other in ["w", "x"] {
        sh(&format!("losetup -d {0}; losetup {0} {other}", device.0), at);
        for opened in [host.open_source(&card), host.hold_source(&card)] {
            assert_eq!(opened.err().map(|error| error.class()), Some(Class::Mismatch), "{other}");
        }
        assert_eq!(host.open_target(&card).err().map(|e| e.class()), Some(Class::Refused));
    }
    // The numbers that the kernel gives to media are not there on all of them.
    let without = Card { sequence: None, ..card };
    assert_eq!(host.open_source(&without).err().map(|e| e.class()), Some(Class::Mismatch));
    assert!(host.open_source(&device.card()).is_ok());
}
