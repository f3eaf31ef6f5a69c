//! What is told where packages are damaged, or were made to mislead.

use super::builder::{self, BLOCK, Wish};
use super::{faults, long, open, read};
use decanter_core::Error;
use proptest::prelude::*;

/// A byte of every kind of stretch is changed: somebody notices, and says where.
#[test]
fn a_changed_byte_is_told_wherever_it_is() {
    let (wish, built) = long(Wish::default());
    let block = |n: u64| built.image_at + n as usize * BLOCK;
    let entry = |id: u32| built.entries[&id].0;
    for (at, words) in [
        (0x78, "digest of the header"),
        (0x410 + 0x70, "digest of the header"),
        (entry(0x1200) + 100, "sce_sys/icon0.png"),
        (entry(0x1) + 40, "digest of these digests"),
        (entry(0x80) + 0x30, "digest of the container's own entries"),
        (0x2000 + 0x4_0000, "digest of the body"),
        (block(0) + 0x4000, "digest of the front of the image"),
        (block(0) + 0x28, "image: signature of the header"),
        (block(built.places[20]) + 5, "signatures of all blocks"),
    ] {
        let mut bytes = built.bytes.clone();
        bytes[at] ^= 4;
        let opened = open(bytes).unwrap();
        let (told, _) = faults(&opened);
        assert!(told.iter().any(|t| t.contains(words)), "{at:#x}: {told:?}");
    }
    // What every block of the image is hit by, no file comes out of.
    let mut bytes = built.bytes.clone();
    for place in &built.places {
        bytes[block(*place) + 17] ^= 1;
    }
    let opened = open(bytes).unwrap();
    for (path, _) in wish.files.iter().filter(|(path, _)| !path.ends_with("empty")) {
        let file = opened.holds.tree.as_ref().unwrap().find(path);
        assert!(file.is_none_or(|_| read(&opened, path).is_err()), "{path}");
    }
}

/// A file is not handed on whose block has another signature, and others are.
#[test]
fn a_bad_block_hits_the_file_in_it_and_no_other() {
    let (wish, built) = long(Wish::default());
    let plain = builder::inner(&wish.files);
    let at = plain.windows(64).position(|w| w == &wish.files[0].1[..64]).unwrap();
    // One block of header and table stands in front.
    let hit = at / BLOCK + 1;
    let mut bytes = built.bytes.clone();
    bytes[built.image_at + built.places[hit] as usize * BLOCK + 3] ^= 1;
    let opened = open(bytes).unwrap();
    let told = read(&opened, "Eboot.bin").unwrap_err();
    assert!(
        matches!(&told, Error::Checksum { what, .. } if what.contains(&format!("block {hit:#x} of pfs_image.dat"))),
        "{told}"
    );
    assert!(read(&opened, "data/Map.dat").is_ok() && read(&opened, "long.bin").is_ok());
    let mut bytes = built.bytes.clone();
    bytes[built.entries[&0x1200].0] ^= 1;
    let opened = open(bytes).unwrap();
    assert!(matches!(read(&opened, "sce_sys/icon0.png"), Err(Error::Checksum { .. })));
    assert!(read(&opened, "sce_sys/param.sfo").is_ok());
}

/// Pointers that lead out of the image, to its header, or to where another one leads; all of them signed.
#[test]
fn pointers_that_mislead_are_told() {
    let pointer = |index: usize| BLOCK + 3 * 0x2c8 + 0x64 + index * 36;
    let told = |edit: &dyn Fn(&mut Vec<u8>, &[u64])| {
        let opened = open(builder::package_with(&Wish::default(), &|_| (), edit).bytes).unwrap();
        let (mut told, _) = faults(&opened);
        told.extend(opened.holds.tree.as_ref().and_then(|t| t.find("Eboot.bin")).map(|_| "all is there".into()));
        told.join("; ")
    };
    let set = |to: u32| {
        move |image: &mut Vec<u8>, _: &[u64]| image[pointer(3) + 32..][..4].copy_from_slice(&to.to_le_bytes())
    };
    assert!(told(&set(5000)).contains("points at block 0x1388"), "{}", told(&set(5000)));
    assert!(told(&set(0)).contains("points at block 0x0"), "{}", told(&set(0)));
    let doubled = |image: &mut Vec<u8>, _: &[u64]| image.copy_within(pointer(2)..pointer(3), pointer(3));
    assert!(told(&doubled).contains("where another one is"), "{}", told(&doubled));
    // A table that points at itself has not the signature that it should have.
    let (wish, _) = long(Wish::default());
    let looped = |image: &mut Vec<u8>, _: &[u64]| {
        let own = image[pointer(12)..][..36].to_vec();
        let at = u32::from_le_bytes(own[32..].try_into().unwrap()) as usize * BLOCK;
        image[at..at + 36].copy_from_slice(&own);
    };
    let opened = open(builder::package_with(&wish, &|_| (), &looped).bytes).unwrap();
    assert!(faults(&opened).0.join(" ").contains("a table of the blocks of pfs_image.dat"));
}

/// Signatures that are all wrong: nothing comes out, and what is wrong is told; whoever asks for it gets the files.
#[test]
fn wrong_signatures_are_no_wrong_key() {
    let (wish, built) = long(Wish::default());
    let mut bytes = built.bytes;
    // Those of the header, and of the table of inodes in it.
    [0x380, 0xb8].iter().for_each(|at| bytes[built.image_at + at] ^= 1);
    let told = faults(&open(bytes.clone()).unwrap()).0.join(" ");
    assert!(told.contains("block 0x0 of the table of inodes"), "{told}");
    let keys = decanter_core::Keyring::default();
    let opener = decanter_core::format::Opener::new(&decanter_formats::REGISTRY, &keys).unchecked(true);
    super::check_files(&opener.open(super::source(bytes)).unwrap(), &wish);
}

/// Blocks with wrong lengths, all of them signed: the files that they hold are told, and nothing else is lost.
#[test]
fn packed_blocks_with_wrong_lengths_are_told() {
    let wish = Wish { deflated: true, ..Wish::default() };
    let plain = builder::inner(&wish.files);
    let block = plain.windows(64).position(|w| w == [5; 64]).unwrap() / BLOCK;
    let entry = move |content: &Vec<u8>, n: usize| {
        let at = 0x400 + n * 8;
        u64::from_le_bytes(content[at..at + 8].try_into().unwrap())
    };
    let set =
        |content: &mut Vec<u8>, n: usize, to: u64| content[0x400 + n * 8..][..8].copy_from_slice(&to.to_le_bytes());
    // It ends earlier than it does.
    let cut = |content: &mut Vec<u8>| set(content, block + 1, entry(content, block) + 10);
    let opened = open(builder::package_with(&wish, &cut, &|_, _| ()).bytes).unwrap();
    let told = read(&opened, "data/Map.dat").unwrap_err().to_string();
    assert!(told.contains(&format!("block {block:#x} cannot be unpacked")), "{told}");
    assert!(read(&opened, "data/deep/a.txt").is_ok());
    // It goes back.
    let back = |content: &mut Vec<u8>| set(content, block, 3);
    let opened = open(builder::package_with(&wish, &back, &|_, _| ()).bytes).unwrap();
    assert!(faults(&opened).0.join(" ").contains("goes from"), "{:?}", faults(&opened));
    // More than a block has.
    let wide = Wish::default();
    let more = |content: &mut Vec<u8>| set(content, block + 1, entry(content, block + 1) + 8);
    let opened = open(builder::package_with(&wide, &more, &|_, _| ()).bytes).unwrap();
    let told = read(&opened, "data/Map.dat").unwrap_err().to_string();
    assert!(told.contains("takes 65544 bytes, more than it has"), "{told}");
}

#[test]
fn ids_that_contradict_each_other_are_told() {
    let mut wish = Wish::default();
    wish.entries[0].2 =
        builder::sfo(&[("CONTENT_ID", "EP0000-DCNT40001_00-PIERNINE00000000"), ("TITLE_ID", "DCNT40009")]);
    let told = faults(&open(builder::package(&wish).bytes).unwrap()).0.join(" ");
    assert!(told.contains("says EP0000-DCNT40001_00-PIERNINE00000000, the header UP0000"), "{told}");
    wish.entries.remove(0);
    let opened = open(builder::package(&wish).bytes).unwrap();
    assert!(opened.told.notices.iter().any(|n| n.text.contains("what it is called is not known")));
}

#[test]
fn a_package_with_changes_alone_is_named() {
    let wish = Wish { content_flags: 0x4100_0000, ..Wish::default() };
    let opened = open(builder::package(&wish).bytes).unwrap();
    assert!(opened.get("changes alone").unwrap().contains("no whole files"));
}

/// Folders that lead back to folders above them end, and are told.
#[test]
fn folders_that_lead_back_are_told() {
    let mut image = builder::inner(&Wish::default().files);
    let at = image.windows(5).position(|w| w == b"deep\0").unwrap() - 16;
    image[at..at + 4].copy_from_slice(&2u32.to_le_bytes());
    let opened = open(image.clone()).unwrap();
    let told = faults(&opened).0.join(" ");
    assert!(told.contains("data/deep: it leads back to a folder that was met before"), "{told}");
    assert!(read(&opened, "Eboot.bin").is_ok());
    // An entry that is longer than its block, and one whose inode there is not.
    image[at + 12..at + 16].copy_from_slice(&0x2_0000u32.to_le_bytes());
    assert!(faults(&open(image.clone()).unwrap()).0.join(" ").contains("what stands behind it is lost"));
    image[at..at + 16].copy_from_slice(b"\xff\xff\0\0\x02\0\0\0\x04\0\0\0\x18\0\0\0");
    let told = read(&open(image).unwrap(), "data/deep").unwrap_err().to_string();
    assert!(told.contains("it is inode 65535, and there are 11"), "{told}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]
    /// Fields of plain images, packed ones and containers with any numbers in them: nothing panics, nothing hangs.
    #[test]
    fn any_numbers_in_structures_are_met(
        which in 0usize..3,
        fields in proptest::collection::vec((any::<prop::sample::Index>(), prop_oneof![Just(0u32), Just(u32::MAX), Just(0x8000_0000), 0u32..40]), 1..6),
    ) {
        static MADE: std::sync::OnceLock<[Vec<u8>; 3]> = std::sync::OnceLock::new();
        let made = MADE.get_or_init(|| {
            let wish = Wish { files: Wish::default().files.split_off(1), ..Wish::default() };
            let plain = builder::inner(&wish.files);
            [plain.clone(), builder::pfsc(&plain, true), builder::package(&wish).bytes]
        });
        let mut bytes = made[which].clone();
        // Where there are structures, and not one zero behind the other.
        let places: Vec<usize> = (0..bytes.len() / 4).map(|n| n * 4).filter(|at| bytes[*at..at + 4] != [0; 4]).collect();
        for (place, value) in fields {
            let at = places[place.index(places.len().min(4000))];
            let value = if which == 2 { value.to_be_bytes() } else { value.to_le_bytes() };
            bytes[at..at + 4].copy_from_slice(&value);
        }
        if let Ok(opened) = open(bytes) {
            let _ = faults(&opened);
            for (_, file) in opened.holds.tree.iter().flat_map(|t| t.files()).filter(|(_, f)| f.len < 1 << 20) {
                if let Ok(source) = file.source() {
                    let _ = source.read_at(0, &mut vec![0; source.len() as usize]);
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    /// Whatever is cut off or changed, nothing panics, and files have their bytes or an error.
    #[test]
    fn damage_is_told_or_harmless(at in any::<prop::sample::Index>(), byte in any::<u8>(), cut in any::<prop::sample::Index>(), cuts in any::<bool>()) {
        let wish = Wish { deflated: true, ..Wish::default() };
        let mut bytes = builder::package(&wish).bytes;
        let at = at.index(bytes.len());
        bytes[at] = byte;
        if cuts {
            bytes.truncate(cut.index(bytes.len()));
        }
        if let Ok(opened) = open(bytes) {
            for (path, wanted) in &wish.files {
                let there = opened.holds.tree.as_ref().is_some_and(|t| t.find(path).is_some());
                if there && let Ok(found) = read(&opened, path) {
                    prop_assert!(found == *wanted, "{}", path);
                }
            }
            let _ = faults(&opened);
        }
    }
}
