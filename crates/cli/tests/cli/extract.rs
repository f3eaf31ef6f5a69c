//! What comes out of images and archives, and where it goes.

use crate::support::{demo, folder, run, text, tree};
use decanter_core::format::Format;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::{Door, Guard};
use decanter_formats::optical::iso9660::Iso9660;
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, UNIX_EPOCH};

/// A plain disc with these files, written into `folder`.
fn disc(folder: &Path, files: &[(&str, &[u8])]) -> std::path::PathBuf {
    let mut tree = Tree::default();
    for (path, bytes) in files {
        if let Some((parent, _)) = path.rsplit_once('/')
            && tree.find(parent).is_none()
        {
            tree.nodes.push(Node::new(parent.into(), Kind::Folder, Some(1_000_000_000)));
        }
        let content = Content::Whole(Arc::new(Bytes(bytes.to_vec())));
        let file = File { len: bytes.len() as u64, spans: Vec::new(), content };
        tree.nodes.push(Node::new((*path).into(), Kind::File(file), Some(1_000_000_000)));
    }
    let blueprint = Iso9660.compose(&tree, "PIER_NINE").unwrap();
    let path = folder.join("Pier Nine Pinball.iso");
    decanter_core::pour::pour(Output::new(&blueprint, &path), Door { guard: &Guard::default(), replace: true }, &())
        .unwrap();
    path
}

#[test]
fn every_file_comes_out_as_it_went_in() {
    let folder = folder();
    let kelp = decanter_demo::Kelp::new(6 << 20, false).unwrap();
    run(folder.path(), &["extract", text(demo().archive.as_ref().unwrap())]).expect(0).says("40 files");
    let found = tree(&folder.path().join("Kelp Courier"));
    assert_eq!(found.len(), 40);
    for (path, bytes) in found {
        let file = kelp.disc.tree.find(&path).and_then(|n| n.file()).unwrap_or_else(|| panic!("{path}"));
        let mut want = vec![0; file.len as usize];
        kelp.disc.plain.read_at(file.spans[0].start, &mut want).unwrap();
        assert!(bytes == want, "{path}");
    }
    let meta = fs::metadata(folder.path().join("Kelp Courier/PS3_GAME/PARAM.SFO")).unwrap();
    assert_eq!(meta.modified().unwrap(), UNIX_EPOCH + Duration::from_secs(1_237_022_813));
}

#[test]
fn a_plain_disc_comes_out_with_times_and_only_what_is_wanted() {
    let folder = folder();
    disc(folder.path(), &[("lanes/left.dat", b"left"), ("lanes/right.dat", b"right"), ("Read Me.TXT", b"tilt")]);
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "--only", "*.dat", "-o", "some"]).expect(0);
    assert_eq!(tree(&folder.path().join("some")).len(), 2);
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "--only", "*.xyz", "-o", "none"])
        .expect(2)
        .says("nothing in it matches");
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "--only", "a[", "-o", "none"]).expect(2);
    assert!(!folder.path().join("none").exists());
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "--dry-run"])
        .expect(0)
        .says("would write")
        .says("3 files");
    assert!(!folder.path().join("Pier Nine Pinball").exists());
    let left = fs::metadata(folder.path().join("some/lanes/left.dat")).unwrap();
    assert_eq!(left.modified().unwrap(), UNIX_EPOCH + Duration::from_secs(1_000_000_000));
}

#[test]
fn an_existing_target_stops_it_before_the_first_byte() {
    let folder = folder();
    disc(folder.path(), &[("a.dat", b"new"), ("b.dat", b"new")]);
    fs::create_dir(folder.path().join("out")).unwrap();
    fs::write(folder.path().join("out/b.dat"), "old").unwrap();
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "-o", "out"])
        .expect(2)
        .says("already exists")
        .says("--replace");
    assert_eq!(tree(&folder.path().join("out")), [("b.dat".to_owned(), b"old".to_vec())]);
    run(folder.path(), &["extract", "Pier Nine Pinball.iso", "-o", "out", "--replace"]).expect(0);
    assert_eq!(fs::read(folder.path().join("out/b.dat")).unwrap(), b"new");
    let image = folder.path().join("Pier Nine Pinball.iso");
    let before = fs::read(&image).unwrap();
    run(folder.path(), &["extract", text(&image), "-o", text(&image)]).expect(2);
    assert!(fs::read(&image).unwrap() == before, "the source was touched");
}

/// Changes the name of a file in both trees of an image.
fn rename(image: &Path, from: &str, to: &str) {
    let mut bytes = fs::read(image).unwrap();
    let wide = |s: &str| s.encode_utf16().flat_map(u16::to_be_bytes).collect::<Vec<u8>>();
    for (from, to) in [(from.as_bytes().to_vec(), to.as_bytes().to_vec()), (wide(from), wide(to))] {
        assert_eq!(from.len(), to.len());
        while let Some(at) = bytes.windows(from.len()).position(|w| w == from) {
            bytes[at..at + to.len()].copy_from_slice(&to);
        }
    }
    fs::write(image, bytes).unwrap();
}

#[test]
fn hostile_names_stay_in_the_folder() {
    let folder = folder();
    let image = disc(folder.path(), &[("XXYYZZ.DAT", b"one"), ("QQ", b"two"), ("DUP1", b"three"), ("DUP2", b"four")]);
    rename(&image, "XXYYZZ.DAT", "../../.DAT");
    rename(&image, "QQ", "..");
    rename(&image, "DUP2", "DUP1");
    let run = run(folder.path(), &["extract", text(&image), "-o", "out"]).expect(0).says("renamed");
    let mut names: Vec<String> = tree(&folder.path().join("out")).into_iter().map(|(n, _)| n).collect();
    names.sort();
    assert_eq!(names, [".._.._.DAT", "DUP1", "DUP1 (2)", "_"], "{run:?}");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2, "something left the folder");
}
