//! How a format is found: marks before scores, the surest one first, damage that hides no more than it has to.

use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::format::{Format, MOST_DEPTH, Opener, Registry, looks_random};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Bytes, Source, SourceRef};
use decanter_core::{Error, Keyring, Result};
use proptest::prelude::*;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// What a made-up format answers.
type Answer = fn() -> Result<Option<u8>>;

struct Made {
    id: &'static str,
    role: Role,
    marks: &'static [Mark],
    score: Answer,
    asked: AtomicUsize,
}

impl Made {
    fn leak(id: &'static str, role: Role, marks: &'static [Mark], score: Answer) -> &'static Self {
        Box::leak(Box::new(Self { id, role, marks, score, asked: AtomicUsize::new(0) }))
    }

    fn asked(&self) -> usize {
        self.asked.load(Ordering::Relaxed)
    }
}

impl Format for Made {
    fn id(&self) -> &'static str {
        self.id
    }
    fn name(&self) -> &'static str {
        self.id
    }
    fn role(&self) -> Role {
        self.role
    }
    fn extensions(&self) -> &'static [&'static str] {
        &[]
    }
    fn reads(&self) -> &'static str {
        ""
    }
    fn marks(&self) -> &'static [Mark] {
        self.marks
    }
    fn score(&self, _: &Head<'_>) -> Result<Option<u8>> {
        self.asked.fetch_add(1, Ordering::Relaxed);
        (self.score)()
    }
    fn open(&self, _: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(self.id, self.id);
        opened.fact("names", opener.names().join(","));
        opened.fact("beside", opener.beside().named("key").join(","));
        Ok(opened)
    }
}

fn registry(formats: &[&'static Made]) -> Registry {
    let formats: Vec<&'static dyn Format> = formats.iter().map(|f| *f as &'static dyn Format).collect();
    Registry::new(formats.leak())
}

fn found(registry: &Registry, bytes: &[u8]) -> Result<Option<&'static str>> {
    let source = Bytes(bytes.to_vec());
    Ok(registry.detect(&Head::new(&source))?.map(|f| f.id()))
}

fn damaged() -> Error {
    Error::Unreadable { why: "a bad sector".into() }
}

#[test]
fn the_surest_format_wins_and_the_first_of_equals() {
    let all = registry(&[
        Made::leak("some", Role::Rom, &[], || Ok(Some(40))),
        Made::leak("sure", Role::Rom, &[], || Ok(Some(90))),
        Made::leak("also", Role::Rom, &[], || Ok(Some(90))),
        Made::leak("none", Role::Rom, &[], || Ok(None)),
    ]);
    assert_eq!(found(&all, b"x").unwrap(), Some("sure"));
    let few = |f: &dyn Format| f.id() != "sure" && f.id() != "also";
    let source = Bytes(b"x".to_vec());
    assert_eq!(all.detect_among(&Head::new(&source), &few).unwrap().map(|f| f.id()), Some("some"));
    assert_eq!(found(&registry(&[]), b"x").unwrap(), None);
}

#[test]
fn a_format_is_asked_only_where_one_of_its_marks_stands() {
    const MARKS: &[Mark] = &[Mark { at: 0, bytes: b"TIDE" }, Mark { at: 6, bytes: b"BRINE" }];
    let made = Made::leak("marked", Role::Archive, MARKS, || Ok(Some(50)));
    let all = registry(&[made]);
    for (bytes, is_one) in
        [(&b"TIDE"[..], true), (b"tide..BRINE", true), (b"TID", false), (b"", false), (b"......BRIN", false)]
    {
        let before = made.asked();
        assert_eq!(found(&all, bytes).unwrap().is_some(), is_one, "{bytes:?}");
        assert_eq!(made.asked() - before, usize::from(is_one), "{bytes:?}");
    }
}

#[test]
fn damage_hides_what_is_behind_it_and_nothing_else() {
    let hurt = Made::leak("hurt", Role::Rom, &[], || Err(damaged()));
    let sees = Made::leak("sees", Role::Rom, &[], || Ok(Some(30)));
    assert_eq!(found(&registry(&[hurt, sees]), b"x").unwrap(), Some("sees"));
    assert!(
        matches!(found(&registry(&[hurt]), b"x"), Err(Error::Unreadable { .. })),
        "nobody sees anything: then it is told"
    );
}

#[test]
fn a_missing_key_and_a_costly_look_are_no_failures_but_a_failing_machine_is() {
    let locked = Made::leak("locked", Role::Rom, &[], || {
        Err(Error::Key(KeyTrouble { need: "a key".into(), way: KeyWay::Alone, wrong: Vec::new(), looked: Vec::new() }))
    });
    let costly = Made::leak("costly", Role::Rom, &[], || Err(Error::Limit { what: "a look", asked: 2, limit: 1 }));
    assert_eq!(found(&registry(&[locked, costly]), b"x").unwrap(), None);
    let broken = Made::leak("broken", Role::Rom, &[], || {
        Err(Error::Io { op: "read", path: None, offset: Some(0), source: std::io::Error::other("gone") })
    });
    let sees = Made::leak("sees", Role::Rom, &[], || Ok(Some(30)));
    assert!(matches!(found(&registry(&[sees, broken]), b"x"), Err(Error::Io { .. })), "what was seen may be wrong");
    let stopped = Made::leak("stopped", Role::Rom, &[], || Err(Error::Cancelled));
    assert!(matches!(found(&registry(&[stopped, sees]), b"x"), Err(Error::Cancelled)));
}

#[test]
fn the_opener_hands_on_what_it_has_and_what_is_inside_has_other_neighbours() {
    struct Keys;
    impl decanter_core::format::Beside for Keys {
        fn find(&self, _: &str) -> Result<Option<(String, SourceRef)>> {
            Ok(None)
        }
        fn named(&self, extension: &str) -> Vec<String> {
            vec![format!("tide.{extension}")]
        }
    }
    let all = registry(&[Made::leak("made", Role::Image(Medium::Disc), &[], || Ok(Some(9)))]);
    let (keys, names) = (Keyring::default(), ["Fogbell".to_owned(), "box".to_owned()]);
    let opener = Opener::new(&all, &keys).with_names(&names).with_beside(&Keys);
    let source: SourceRef = Arc::new(Bytes(vec![1]));
    let opened = opener.open(source.clone()).unwrap();
    assert_eq!((opened.get("names"), opened.get("beside")), (Some("Fogbell,box"), Some("tide.key")));
    assert_eq!((opened.identity.format, opened.identity.role), ("made", Role::Image(Medium::Disc)));
    let inside = opener.inside().unwrap().open(source).unwrap();
    assert_eq!((inside.get("names"), inside.get("beside")), (Some("Fogbell,box"), None));
}

#[test]
fn containers_in_containers_end_somewhere() {
    let (all, keys) = (registry(&[]), Keyring::default());
    let mut opener = Opener::new(&all, &keys);
    for _ in 0..MOST_DEPTH {
        opener = opener.inside().unwrap();
    }
    assert!(matches!(opener.inside(), Err(Error::Limit { .. })));
    assert!(Opener::new(&all, &keys).at_depth(MOST_DEPTH).inside().is_err());
}

#[test]
fn bytes_of_no_format_are_told_by_what_they_look_like() {
    let (all, keys) = (registry(&[]), Keyring::default());
    let told = |bytes: &[u8]| match Opener::new(&all, &keys).open(Arc::new(Bytes(bytes.to_vec()))) {
        Err(Error::NotUnderstood { seems }) => seems,
        _ => panic!("{bytes:?} is of some format"),
    };
    for (bytes, words) in [
        (&b""[..], "it is empty"),
        (b"\x89PNG\r\n\x1a\nxx", "PNG"),
        (b"%PDF-1.7", "PDF"),
        (b"\x1f\x8b\x08", "gzip"),
        (b"\xfd7zXZ\0", "xz"),
        (b"the tide is out\n", "a text"),
        (&[0x5a; 300], "bytes of value 0x5a"),
        (b"\x00\x01\x02\x03", "none of the known formats"),
    ] {
        assert!(told(bytes).contains(words), "{words}: {}", told(bytes));
    }
    let noise: Vec<u8> = (0..4096u32)
        .map(|i| (i.wrapping_mul(2_654_435_761) >> 9) as u8 ^ (i.wrapping_mul(40_503) >> 5) as u8)
        .collect();
    assert!(looks_random(&noise) == told(&noise).contains("noise"));
}

#[test]
fn roles_answer_what_is_asked_of_them() {
    let images =
        [Medium::Disc, Medium::Cd, Medium::Drive, Medium::Volume, Medium::Floppy, Medium::Tape, Medium::Cartridge];
    for medium in images {
        let role = Role::Image(medium);
        assert!(role.is_image() && role.is_dump() && role.is_large_dump() && !role.is_files());
        assert_eq!(role.is_of_drive(), matches!(medium, Medium::Drive | Medium::Volume));
    }
    for role in [Role::Folder, Role::Archive] {
        assert!(role.is_files() && !role.is_dump() && !role.is_image());
    }
    assert!(Role::Rom.is_dump() && !Role::Rom.is_large_dump());
    assert!(Role::Wrapper.is_large_dump() && !Role::Wrapper.is_image() && Role::Sheet.is_image());
    for role in [Role::Patch, Role::Description, Role::Record, Role::Program, Role::Unknown] {
        assert!(!role.is_dump() && !role.is_files() && !role.is_of_drive());
    }
}

proptest! {
    /// Whatever is asked of a head, it answers as the source itself does.
    #[test]
    fn a_head_reads_what_its_source_has(len in 0usize..200_000, reads in proptest::collection::vec((0u64..210_000, 0usize..5_000), 1..30)) {
        let bytes: Vec<u8> = (0..len).map(|i| (i * 7 + i / 251) as u8).collect();
        let source = Bytes(bytes);
        for head in [Head::new(&source), Head::glance(&source)] {
            prop_assert_eq!(head.len(), source.len());
            for (at, len) in &reads {
                let (mut one, mut other) = (vec![0; *len], vec![0; *len]);
                prop_assert_eq!(head.read_at(*at, &mut one).is_ok(), source.read_at(*at, &mut other).is_ok());
                prop_assert_eq!(one, other);
            }
        }
    }
}
