//! Patches through the command line.

use crate::support::{demo, folder, run, text};
use std::path::Path;

fn bytes(path: &Path) -> Vec<u8> {
    std::fs::read(path).unwrap()
}

#[test]
#[cfg(unix)]
fn patches_reach_as_far_as_the_disk() {
    // A file of a gibibyte and more, with a hole for nearly all of it; the change stands behind the first gibibyte.
    let folder = folder();
    let (len, at) = ((1u64 << 30) + (64 << 20), (1u64 << 30) + 5);
    let old = folder.path().join("old.iso");
    std::fs::File::create(&old).unwrap().set_len(len).unwrap();
    // The checksum of zeros alone, and of the same with "TIDE" in it, put together of their parts.
    let zeros = |len: u64| {
        let mut sum = crc32fast::Hasher::new();
        let block = vec![0; 1 << 20];
        (0..len >> 20).for_each(|_| sum.update(&block));
        sum.update(&block[..(len & 0xf_ffff) as usize]);
        sum
    };
    let before = zeros(len).finalize();
    let mut after = zeros(at);
    after.update(b"TIDE");
    after.combine(&zeros(len - at - 4));
    let after = after.finalize();
    let number = |mut value: u64| {
        let mut out = Vec::new();
        loop {
            let low = (value & 0x7f) as u8;
            value >>= 7;
            if value == 0 {
                out.push(low | 0x80);
                return out;
            }
            out.push(low);
            value -= 1;
        }
    };
    let sealed = |body: Vec<u8>| {
        let mut own = [body, before.to_le_bytes().to_vec(), after.to_le_bytes().to_vec()].concat();
        own.extend(crc32fast::hash(&own).to_le_bytes());
        own
    };
    // UPS: a hunk of four bytes, ended by a zero. BPS: the same, four bytes of the patch, the same.
    let ups = [b"UPS1".to_vec(), number(len), number(len), number(at), b"TIDE\0".to_vec()].concat();
    let same = |len: u64| number((len - 1) << 2);
    let bps = [
        b"BPS1".to_vec(),
        number(len),
        number(len),
        number(0),
        same(at),
        number(3 << 2 | 1),
        b"TIDE".to_vec(),
        same(len - at - 4),
    ];
    std::fs::write(folder.path().join("x.ups"), sealed(ups)).unwrap();
    std::fs::write(folder.path().join("x.bps"), sealed(bps.concat())).unwrap();
    for patch in ["x.ups", "x.bps"] {
        run(folder.path(), &["patch", "apply", "old.iso", patch, "-o", "new.iso", "--replace"]).expect(0);
        let new = std::fs::File::open(folder.path().join("new.iso")).unwrap();
        assert_eq!(new.metadata().unwrap().len(), len);
        let mut found = [0; 8];
        std::os::unix::fs::FileExt::read_exact_at(&new, &mut found, at - 2).unwrap();
        assert_eq!(&found, b"\0\0TIDE\0\0", "{patch}");
    }
}

#[test]
fn a_patch_between_files_that_nobody_holds_is_made_and_proven() {
    let folder = folder();
    let noise = |seed: u64, len: usize| -> Vec<u8> {
        let mut state = seed;
        let mut step = || {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 33) as u8
        };
        (0..len).map(|_| step()).collect()
    };
    // Of 70 MiB; two bytes change, a quarter moves, and some bytes are new.
    let old = noise(1, 70 << 20);
    let mut new = [&old[..20 << 20], &noise(2, 1000), &old[40 << 20..], &old[20 << 20..40 << 20]].concat();
    new[77] ^= 1;
    new[60 << 20] ^= 1;
    std::fs::write(folder.path().join("old.iso"), &old).unwrap();
    std::fs::write(folder.path().join("new.iso"), &new).unwrap();
    let sums = [&old, &new].map(|bytes| format!("CRC-32 {:08x}", crc32fast::hash(bytes)));
    for format in ["bps", "vcdiff"] {
        let patch = format!("new.{format}");
        let make = ["patch", "make", "old.iso", "new.iso", "--format", format];
        let told = run(folder.path(), &[&make[..], &["--dry-run"]].concat()).expect(0);
        let told = told.says("known once it is made");
        assert!(!told.out.contains("proof") && !folder.path().join(&patch).exists(), "{}", told.out);
        let told = run(folder.path(), &make).expect(0);
        told.says("read back and applied before it got its name").says(&sums[0]).says(&sums[1]);
        let len = bytes(&folder.path().join(&patch)).len();
        assert!(len < 3000, "{format}: {len}");
        run(folder.path(), &["patch", "apply", "old.iso", &patch, "-o", "again.iso", "--replace"]).expect(0);
        assert!(bytes(&folder.path().join("again.iso")) == new, "{format}");
    }
}

#[test]
#[cfg(unix)]
fn of_long_files_every_format_but_one_is_made() {
    let folder = folder();
    let long = |len: u64| {
        for (name, changed) in [("old.iso", b'a'), ("new.iso", b'b')] {
            let file = std::fs::File::create(folder.path().join(name)).unwrap();
            file.set_len(len).unwrap();
            std::os::unix::fs::FileExt::write_at(&file, &[changed], len - 5).unwrap();
        }
    };
    let ips = || {
        let told = run(folder.path(), &["patch", "make", "old.iso", "new.iso", "--format", "ips"]).expect(2);
        told.says("up to 16,777,216 bytes").says("IPS offsets end at 16 MiB");
    };
    long((65 << 20) + 9);
    // Whoever names no format gets the one that tells of both files.
    for (words, patch) in [(&[][..], "new.bps"), (&["--format", "ups"], "new.ups")] {
        let make = [&["patch", "make", "old.iso", "new.iso"], words].concat();
        run(folder.path(), &make).expect(0).says("it leads to the new file");
        assert!(bytes(&folder.path().join(patch)).len() < 50, "{patch}");
    }
    run(folder.path(), &["patch", "apply", "new.iso", "new.ups", "--undo", "-o", "back.iso"]).expect(0);
    assert!(bytes(&folder.path().join("back.iso")) == bytes(&folder.path().join("old.iso")));
    ips();
    // None of them has a limit where memory ends.
    long((1 << 30) + 9);
    for format in ["bps", "ups", "vcdiff"] {
        let make = ["patch", "make", "old.iso", "new.iso", "--format", format, "--dry-run", "--replace"];
        run(folder.path(), &make).expect(0).says(&format!("new.{format}"));
    }
    ips();
}

#[test]
fn patches_of_all_formats_lead_to_the_same_file() {
    let (d, folder) = (&demo().drawer, folder());
    for patch in &d.patches {
        run(folder.path(), &["patch", "apply", text(&d.gb), text(patch), "-o", "out.gb", "--replace"]).expect(0);
        assert!(bytes(&folder.path().join("out.gb")) == bytes(&d.gb_patched), "{}", patch.display());
    }
    run(folder.path(), &["patch", "apply", text(&d.gb), text(&d.patches[0])]).expect(0);
    assert!(folder.path().join("Fogbell (Fogbell).gb").exists(), "named after the source and the patch");
    assert!(!folder.path().join("Fogbell.gb").exists());
}

#[test]
fn undo_leads_back_where_the_format_can() {
    let (d, folder) = (&demo().drawer, folder());
    let [bps, ups, ips] = &d.patches;
    run(folder.path(), &["patch", "apply", text(&d.gb_patched), text(ups), "--undo", "-o", "back.gb"]).expect(0);
    assert!(bytes(&folder.path().join("back.gb")) == bytes(&d.gb));
    for patch in [bps, ips] {
        run(folder.path(), &["patch", "apply", text(&d.gb_patched), text(patch), "--undo", "-o", "x.gb"])
            .expect(3)
            .says("only UPS");
    }
    let said = run(folder.path(), &["patch", "apply", text(&d.gb_patched), text(ups), "-o", "x.gb"]).expect(4);
    said.says("patched already; this leads back").says("--undo");
}

#[test]
fn a_patch_for_another_form_says_which_command_fits() {
    let (d, folder) = (&demo().drawer, folder());
    let said = run(folder.path(), &["patch", "apply", text(&d.smc), text(&d.smc_patch), "-o", "x.sfc"]).expect(4);
    let said = said.says("expects 262,144 bytes with CRC-32").says("the file has 262,656 bytes").says("--as sfc");
    assert!(!folder.path().join("x.sfc").exists(), "{said:?}");
    run(folder.path(), &["patch", "apply", text(&d.smc), text(&d.smc_patch), "--as", "sfc", "-o", "x.sfc"]).expect(0);
    assert_eq!(bytes(&folder.path().join("x.sfc")).len(), 262_144);
    run(folder.path(), &["patch", "apply", text(&d.smc), text(&d.smc_patch), "--as", "z64", "-o", "y"])
        .expect(2)
        .says("it has sfc, smc");
    run(folder.path(), &["patch", "apply", text(&d.gba), text(&d.smc_patch), "-o", "y"])
        .expect(4)
        .says("for another dump");
}

#[test]
fn a_patch_without_checksums_is_held_against_the_rom_itself() {
    let (d, folder) = (&demo().drawer, folder());
    let at = |name: &str| folder.path().join(name);
    // A change that keeps the ROM's own checksum: two bytes that cancel each other out.
    run(folder.path(), &["convert", text(&d.smc), "--to", "sfc", "-o", "old.sfc"]).expect(0);
    let mut new = bytes(&at("old.sfc"));
    let place = (0x10_000..).find(|&i| new[i] < 255 && new[i + 1] > 0).unwrap();
    (new[place], new[place + 1]) = (new[place] + 1, new[place + 1] - 1);
    std::fs::write(at("new.sfc"), &new).unwrap();
    run(folder.path(), &["patch", "make", "old.sfc", "new.sfc", "--format", "ips", "-o", "change.ips"]).expect(0);
    run(folder.path(), &["patch", "apply", "old.sfc", "change.ips", "-o", "a.sfc"]).expect(0).says("has no checksums");
    let said = run(folder.path(), &["patch", "apply", text(&d.smc), "change.ips", "-o", "b.smc"]).expect(4);
    said.says("only applied to the ROM without a header").says("--as sfc").says("--as smc");
    run(folder.path(), &["patch", "apply", text(&d.smc), "change.ips", "--as", "sfc", "-o", "c.sfc"]).expect(0);
    assert!(bytes(&at("c.sfc")) == new);
    run(folder.path(), &["patch", "apply", text(&d.smc), "change.ips", "--as", "smc", "-o", "d.smc"]).expect(0);
}

#[test]
fn a_patch_for_a_padded_rom_says_how_to_get_there() {
    let (d, folder) = (&demo().drawer, folder());
    let mut new = bytes(&d.gba_padded);
    new[0x1000..0x1010].fill(7);
    std::fs::write(folder.path().join("new.gba"), &new).unwrap();
    run(folder.path(), &["patch", "make", text(&d.gba_padded), "new.gba", "-o", "p.bps"]).expect(0);
    let said = run(folder.path(), &["patch", "apply", text(&d.gba), "p.bps", "-o", "x.gba"]).expect(4);
    said.says("expects the ROM padded").says("--pad 524288 --fill 0xff");
}

#[test]
fn several_patches_in_order() {
    let (d, folder) = (&demo().drawer, folder());
    let mut third = bytes(&d.gb_patched);
    third[0x8000..0x8100].fill(1);
    std::fs::write(folder.path().join("third.gb"), &third).unwrap();
    run(folder.path(), &["patch", "make", text(&d.gb_patched), "third.gb", "-o", "second.bps"]).expect(0);
    let first = text(&d.patches[0]);
    run(folder.path(), &["patch", "apply", text(&d.gb), first, "second.bps", "-o", "out.gb"]).expect(0);
    assert!(bytes(&folder.path().join("out.gb")) == third);
    run(folder.path(), &["patch", "apply", text(&d.gb), first, first, "-o", "x.gb"]).expect(4);
}

#[test]
fn damaged_and_impossible_patches() {
    let (d, folder) = (&demo().drawer, folder());
    let mut bad = bytes(&d.patches[0]);
    bad[20] ^= 1;
    std::fs::write(folder.path().join("bad.bps"), &bad).unwrap();
    run(folder.path(), &["patch", "apply", text(&d.gb), "bad.bps", "-o", "x"])
        .expect(3)
        .says("the patch itself should have CRC-32");
    // Right in itself, but it leads to something else than it promises.
    let end = bad.len();
    bad[20] ^= 1;
    bad[end - 8] ^= 1;
    let own = crc32fast::hash(&bad[..end - 4]).to_le_bytes();
    bad[end - 4..].copy_from_slice(&own);
    std::fs::write(folder.path().join("lies.bps"), &bad).unwrap();
    run(folder.path(), &["patch", "apply", text(&d.gb), "lies.bps", "-o", "x"]).expect(3).says("wrong in itself");
    assert!(!folder.path().join("x").exists());
    run(folder.path(), &["patch", "apply", text(&d.gb), text(&d.gba), "-o", "x"]).expect(2).says("no patch");
    let large = std::fs::File::create(folder.path().join("large.bin")).unwrap();
    large.set_len((16 << 20) + 1).unwrap();
    run(folder.path(), &["patch", "make", "large.bin", text(&d.gb), "--format", "ips"])
        .expect(3)
        .says("make a BPS patch instead");
}

#[test]
fn show_says_what_a_patch_expects() {
    let d = &demo().drawer;
    let crc = crc32fast::hash(&bytes(&d.gb));
    let said = run(&d.folder, &["patch", "show", text(&d.patches[0])]).expect(0);
    said.says(&format!("65,536 bytes with CRC-32 {crc:08x}"))
        .says("Deep Water edition")
        .says("0x0000c000 to 0x0000c0ff");
    let json = run(&d.folder, &["patch", "show", text(&d.patches[1]), "--json"]).expect(0).json();
    assert_eq!((&json["can_undo"], &json["source"]["crc32"]), (&true.into(), &format!("{crc:08x}").into()));
    run(&d.folder, &["patch", "show", text(&d.patches[2])]).expect(0).says("the format has no checksums");
}

#[test]
fn metadata_and_rehearsals() {
    let (d, folder) = (&demo().drawer, folder());
    std::fs::write(folder.path().join("about.txt"), "For Ida.").unwrap();
    let make = ["patch", "make", text(&d.gb), text(&d.gb_patched), "--metadata", "about.txt", "-o", "m.bps"];
    run(folder.path(), &[&make[..], &["--dry-run"]].concat()).expect(0).says("would write");
    assert!(!folder.path().join("m.bps").exists());
    run(folder.path(), &make).expect(0);
    run(folder.path(), &["patch", "show", "m.bps"]).expect(0).says("For Ida.");
    run(folder.path(), &["patch", "apply", text(&d.gb), "m.bps", "-o", "x.gb", "--dry-run"])
        .expect(0)
        .says("would write");
    assert!(!folder.path().join("x.gb").exists());
    run(
        folder.path(),
        &["patch", "make", text(&d.gb), text(&d.gb_patched), "--format", "ups", "--metadata", "about.txt"],
    )
    .expect(2);
}
