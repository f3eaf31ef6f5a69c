//! A format that nobody has: what a new one takes. It is one module (all of [`TideBox`]) and one line in a registry; what is in
//! it, what it is in, and what looks for it follow by themselves.
//!
//! A tide box: `TIDE`, then for each file a length of its name and one of its content (one byte each), the name, the content.

use decanter_core::format::{Format, Opener, Registry};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, Source, SourceRef, read_array};
use decanter_core::tree::{File, Kind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Keyring, Result};
use decanter_formats::REGISTRY;
use std::sync::Arc;

struct TideBox;

impl Format for TideBox {
    fn id(&self) -> &'static str {
        "tide-box"
    }

    fn name(&self) -> &'static str {
        "tide box"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["tide"]
    }

    fn reads(&self) -> &'static str {
        "files with short names"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(b"TIDE")] }
    }

    fn score(&self, _: &Head<'_>) -> Result<Option<u8>> {
        Ok(Some(80))
    }

    fn open(&self, source: SourceRef, _: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(self.id(), self.name());
        let tree = opened.holds.tree.get_or_insert_default();
        let mut at = 4;
        while at < source.len() {
            let cut = |_| Error::malformed("tide-box", "an entry is cut short", at);
            let [name_len, len]: [u8; 2] = read_array(source.as_ref(), at).map_err(cut)?;
            let mut name = vec![0; name_len.into()];
            source.read_at(at + 2, &mut name).map_err(cut)?;
            let begins = at + 2 + u64::from(name_len);
            let content: SourceRef = Arc::new(Slice::new(source.clone(), begins, len.into()).map_err(cut)?);
            let path = String::from_utf8_lossy(&name).into_owned();
            tree.nodes.push(Node::new(path, Kind::File(File::of(content)), None));
            at = begins + u64::from(len);
        }
        Ok(opened)
    }
}

/// All formats and this one: the line that a new format is in the registry.
fn registry() -> Registry {
    let formats: Vec<&'static dyn Format> = REGISTRY.formats().iter().copied().chain([&TideBox as _]).collect();
    Registry::new(formats.leak())
}

fn packed(files: &[(&str, &[u8])]) -> SourceRef {
    let mut bytes = b"TIDE".to_vec();
    for (name, content) in files {
        bytes.extend([name.len() as u8, content.len() as u8]);
        bytes.extend_from_slice(name.as_bytes());
        bytes.extend_from_slice(content);
    }
    Arc::new(Bytes(bytes))
}

#[test]
fn a_new_format_is_known_opened_and_looked_into_like_any_other() {
    let (registry, keys) = (registry(), Keyring::default());
    let opener = Opener::new(&registry, &keys);
    let inner: &[u8] = b"TIDE\x05\x03deep.sea";
    let opened = opener.open(packed(&[("a.txt", b"out"), ("in.tide", inner)])).unwrap();
    assert_eq!((opened.identity.format, opened.identity.role), ("tide-box", Role::Archive));
    let tree = opened.holds.tree.unwrap();
    assert_eq!(tree.read("a.txt", 100).unwrap().unwrap(), b"out");
    // One in another is opened through the registry, as deep as anything.
    let inside = tree.find("in.tide").unwrap().file().unwrap().source().unwrap().clone();
    let opened = opener.inside().unwrap().open(inside).unwrap();
    assert_eq!(opened.holds.tree.unwrap().files().map(|(n, _)| n.path.as_str()).collect::<Vec<_>>(), ["deep."]);
}

#[test]
fn without_its_mark_it_is_not_asked_and_cut_short_it_says_where() {
    let (registry, keys) = (registry(), Keyring::default());
    let opener = Opener::new(&registry, &keys);
    let other: SourceRef = Arc::new(Bytes(b"EDIT\x01\x01ab".to_vec()));
    assert!(matches!(opener.open(other), Err(Error::NotUnderstood { .. })));
    let cut: SourceRef = Arc::new(Bytes(b"TIDE\x05\x09deep.sea".to_vec()));
    assert!(matches!(opener.open(cut), Err(Error::Malformed { offset: 4, .. })));
}

/// A source that counts how often it is read.
struct Counted(Bytes, std::sync::atomic::AtomicUsize);

impl Source for Counted {
    fn len(&self) -> u64 {
        self.0.len()
    }
    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        self.1.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        self.0.read_at(offset, buf)
    }
}

#[test]
fn all_formats_together_look_at_a_small_file_with_one_read_and_at_a_large_one_with_few_more() {
    let noise: Vec<u8> = (0..8_000_000u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    for (len, most) in [(4_000, 1), (60_000, 1), (8_000_000, 40)] {
        let source = Counted(Bytes(noise[..len].to_vec()), Default::default());
        let head = Head::new(&source);
        let _ = REGISTRY.detect(&head).unwrap();
        let reads = source.1.load(std::sync::atomic::Ordering::Relaxed);
        assert!(reads <= most, "{len} bytes: {reads} reads, {} of them far", head.far_reads());
    }
}
