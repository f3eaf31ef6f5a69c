//! The catalogue by itself: no files, no program. What is asked of it is asked of every database that it may be in.

#[path = "common/server.rs"]
mod server;

use decanter_cellar::files::{self, Content, FileRow, Form, Found, Kept, MemberRow, Stamp, Trouble};
use decanter_cellar::matching::Verdict;
use decanter_cellar::queue::{self, Kind};
use decanter_cellar::{Cellar, Database, Job, JobFile, Location, Place, dats, matching, status};
use decanter_core::catalogue::{Catalogue, Entry, Status, Sums};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::{Error, Result};
use std::time::Duration;

/// Asks the same of an embedded catalogue and of one at a server.
fn everywhere(test: fn(&mut dyn Database)) {
    let folder = tempfile::tempdir().unwrap();
    let embedded = Location::Folder(folder.path().to_owned());
    for location in [Some(embedded), server::database().map(Location::Server)].into_iter().flatten() {
        eprintln!("in {}", location.shown());
        test(Cellar::create(location).unwrap().db.as_mut());
    }
}

fn sums(bytes: &[u8]) -> Sums {
    let mut sums = Sums::default();
    for algorithm in [Algorithm::Crc32, Algorithm::Sha1] {
        assert!(sums.set(algorithm, &of_bytes(algorithm, bytes).bytes));
    }
    sums
}

fn content(bytes: &[u8]) -> Content {
    Content { size: bytes.len() as u64, sums: sums(bytes), ..Content::default() }
}

fn stamp(inode: i64, bytes: &[u8]) -> Stamp {
    Stamp { size: bytes.len() as u64, modified: 7, device: Some(1), inode: Some(inode), tag: None }
}

fn keep(db: &mut dyn Database, place: i64, path: &str, bytes: &[u8]) -> Result<(i64, Kept)> {
    let found = Found { content: content(bytes), ..Found::default() };
    files::keep(db, place, path, &stamp(path.len() as i64, bytes), &found)
}

/// A game, and its files.
type Game<'a> = (&'a str, &'a [(&'a str, &'a [u8], Status)]);

fn set(name: &str, version: &str, games: &[Game<'_>]) -> Catalogue {
    let mut catalogue = Catalogue::default();
    (catalogue.name, catalogue.version) = (name.into(), version.into());
    for (game, entries) in games {
        catalogue.begin_game((*game).into(), None);
        for (name, bytes, status) in *entries {
            let (len, sums) = match status {
                Status::NoDump => (None, Sums::default()),
                _ => (Some(bytes.len() as u64), sums(bytes)),
            };
            catalogue.push(Entry { name: (*name).into(), len, sums, status: *status, game: 0 });
        }
    }
    catalogue.finish()
}

fn verdict(db: &mut dyn Database, id: i64) -> Verdict {
    let sql = "SELECT verdict FROM file WHERE id = ?1";
    Verdict::of(decanter_cellar::database::number(db, sql, &[id.into()]).unwrap())
}

#[test]
fn files_are_kept_changed_moved_and_linked() {
    everywhere(|db| {
        let place = Place::add(db, "/shelf", Some(1), None, Some("/")).unwrap();
        assert_eq!(place.path("a/b"), "/shelf/a/b");
        let (id, kept) = keep(db, place.id, "a.rom", b"one").unwrap();
        assert_eq!(kept, Kept::New);
        assert_eq!(keep(db, place.id, "a.rom", b"one").unwrap(), (id, Kept::Same));
        assert_eq!(keep(db, place.id, "a.rom", b"two").unwrap(), (id, Kept::Changed));
        let row = FileRow::at(db, place.id, "a.rom").unwrap().unwrap();
        assert!(files::agree(&row.sums, &sums(b"two")) && !files::agree(&row.sums, &sums(b"one")));
        row.move_to(db, "/shelf/a.rom", place.id, "b.rom", &row.stamp).unwrap();
        assert!(FileRow::at(db, place.id, "a.rom").unwrap().is_none());
        let moved = FileRow::get(db, id).unwrap().unwrap();
        let other = files::keep_link(db, &moved, place.id, "c.rom", &moved.stamp).unwrap();
        assert_ne!(other, id);
        assert!(files::agree(&FileRow::get(db, other).unwrap().unwrap().sums, &sums(b"two")));
        assert_eq!(FileRow::by_age(db, &[], None).unwrap().len(), 2);
        assert!(FileRow::by_age(db, &[place.id + 1], None).unwrap().is_empty());
        FileRow::set_gone(db, other).unwrap();
        assert_eq!(FileRow::by_age(db, &[], None).unwrap(), [id]);
    });
}

#[test]
fn what_has_rotted_heals_and_what_is_damaged_does_not() {
    everywhere(|db| {
        let place = Place::add(db, "/shelf", None, None, None).unwrap();
        let (id, _) = keep(db, place.id, "a.rom", b"one").unwrap();
        for (trouble, after) in
            [(Trouble::Rot, Trouble::None), (Trouble::Edited, Trouble::None), (Trouble::Damaged, Trouble::Damaged)]
        {
            FileRow::get(db, id).unwrap().unwrap().set_trouble(db, trouble, Some("so")).unwrap();
            assert_eq!(status::damaged(db, None).unwrap()[0].damage, Some(trouble.word()));
            FileRow::get(db, id).unwrap().unwrap().set_checked(db).unwrap();
            assert_eq!(FileRow::get(db, id).unwrap().unwrap().trouble.0, after);
        }
    });
}

#[test]
fn content_goes_before_names_and_members_stand_for_their_file() {
    everywhere(|db| {
        let place = Place::add(db, "/shelf", None, None, None).unwrap();
        let (right, _) = keep(db, place.id, "x/Fogbell.rom", b"fogbell").unwrap();
        let (named, _) = keep(db, place.id, "y.rom", b"tide").unwrap();
        let (wrong, _) = keep(db, place.id, "MOTH.rom", b"worn").unwrap();
        let (lost, _) = keep(db, place.id, "Lost.rom", b"whatever").unwrap();
        let member =
            |path: &str, bytes: &[u8]| MemberRow { path: path.into(), content: content(bytes), ..MemberRow::default() };
        let mut header = member("h.smc", b"header and kelp");
        header.forms = vec![Form { through: "its header".into(), suffix: None, size: 4, sums: sums(b"kelp") }];
        let packed = Found {
            content: content(b"the archive"),
            holds: true,
            members: vec![member("in.rom", b"stranger"), header],
            ..Found::default()
        };
        let (archive, _) = files::keep(db, place.id, "box.zip", &stamp(99, b"the archive"), &packed).unwrap();
        let good = Status::Good;
        let games: [Game<'_>; 5] = [
            ("Fogbell", &[("Fogbell.rom", b"fogbell", good)]),
            ("Tide", &[("Tide.rom", b"tide", good)]),
            ("Moth", &[("Moth.rom", b"fresh", good)]),
            ("Kelp", &[("h.sfc", b"kelp", good)]),
            ("Lost", &[("Lost.rom", b"", Status::NoDump)]),
        ];
        let one = set("Salt", "1", &games);
        assert_eq!(dats::import(db, "Salt", "s.dat", b"digest", &one, false).unwrap(), dats::Imported::New);
        assert_eq!(dats::import(db, "Salt", "s.dat", b"digest", &one, false).unwrap(), dats::Imported::Known);
        assert_eq!(matching::pending(db, &mut |_| Ok(())).unwrap(), 5);
        let found = [right, named, wrong, lost, archive].map(|id| verdict(db, id));
        let expected = [Verdict::Match, Verdict::OtherName, Verdict::Differs, Verdict::Unknown, Verdict::SeeMembers];
        assert_eq!(found, expected, "a name alone is nothing where nobody has dumped it");
        let sets = status::sets(db).unwrap();
        let counts = (sets[0].complete, sets[0].partial, sets[0].missing, sets[0].not_dumped, sets[0].have);
        assert_eq!(counts, (3, 1, 0, 1, 3));
        assert_eq!(status::unknown(db).unwrap().len(), 2);
        assert!(status::missing(db, None).unwrap().is_empty(), "the damaged one is not missing, too");
        assert_eq!(matching::pending(db, &mut |_| Ok(())).unwrap(), 0, "nothing is asked twice");
        FileRow::set_gone(db, right).unwrap();
        matching::recount(db).unwrap();
        assert_eq!(status::missing(db, None).unwrap()[0].name.as_deref(), Some("Fogbell.rom"));
        let stopped = matching::pending(db, &mut |_| Err(Error::Cancelled));
        assert!(matches!(stopped, Err(Error::Cancelled)));
    });
}

#[test]
fn jobs_lead_back_by_path_and_by_bytes() {
    everywhere(|db| {
        let file = |is_output, path: &str, sha1: u8| JobFile {
            is_output,
            path: path.into(),
            size: 5,
            sha1: Some(vec![sha1; 20]),
            ..JobFile::default()
        };
        let job = |files| Job { command: "convert".into(), parameters: "[]".into(), files, ..Job::default() };
        job(vec![file(false, "/a", 1), file(true, "/b", 2)]).keep(db).unwrap();
        job(vec![file(false, "/b", 2), file(true, "/c", 1)]).keep(db).unwrap();
        let ids = |db: &mut dyn Database, file| {
            Job::that_wrote(db, &file).unwrap().into_iter().map(|j| j.id).collect::<Vec<_>>()
        };
        assert_eq!(ids(db, file(true, "/b", 2)), [1]);
        assert_eq!(ids(db, file(true, "/elsewhere", 1)), [2], "moved, and known by its bytes");
        assert!(ids(db, file(true, "/a", 1)).is_empty(), "what a job made later of it is a copy of it");
    });
}

#[test]
fn one_cellar_a_folder_and_none_out_of_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let location = || Location::Folder(folder.path().to_owned());
    let cellar = Cellar::create(location()).unwrap();
    assert!(matches!(Cellar::create(location()), Err(Error::Exists { .. })));
    drop(cellar);
    assert!(Cellar::open(location()).is_ok() && Cellar::open_soon(location()).is_ok());
    let elsewhere = folder.path().join("elsewhere");
    assert!(matches!(Cellar::open(Location::Folder(elsewhere.clone())), Err(Error::Io { .. })));
    assert!(!elsewhere.exists());
    // An empty database is none.
    std::fs::create_dir(&elsewhere).unwrap();
    std::fs::write(elsewhere.join(decanter_cellar::FILE_NAME), "").unwrap();
    assert!(matches!(Cellar::open(Location::Folder(elsewhere)), Err(Error::Unreadable { .. })));
}

fn done(db: &mut dyn Database, piece: &queue::Piece, worker: &str) -> bool {
    queue::once(db, piece, worker, "all of it", |_| Ok(())).unwrap().is_some()
}

#[test]
fn pieces_of_work_are_done_once_whoever_takes_them() {
    everywhere(|db| {
        let place = Place::add(db, "/shelf", None, None, None).unwrap().id;
        let (lease, short) = (Duration::from_secs(60), Duration::from_millis(1));
        let run = queue::new_run(db).unwrap();
        for what in ["one", "two"] {
            queue::add(db, run, Kind::Read, place, what).unwrap();
        }
        assert!(queue::is_under_way(db, place, false).unwrap() && !queue::is_under_way(db, place, true).unwrap());
        assert!(queue::take(db, "a", lease, &[place + 1]).unwrap().is_none(), "a place that is not here");
        let one = queue::take(db, "a", short, &[place]).unwrap().unwrap();
        let two = queue::take(db, "b", lease, &[place]).unwrap().unwrap();
        assert_eq!((one.what.as_str(), two.what.as_str(), one.kind), ("one", "two", Kind::Read));
        // The first worker is gone, and its lease is over.
        std::thread::sleep(Duration::from_millis(20));
        let again = queue::take(db, "c", lease, &[place]).unwrap().unwrap();
        assert_eq!((again.id, again.tries), (one.id, 2));
        assert!(queue::take(db, "d", lease, &[place]).unwrap().is_none());
        assert!(!done(db, &one, "a"), "it was not gone after all, and has nothing to say any more");
        assert!(done(db, &again, "c") && !done(db, &again, "c"));
        assert_eq!(queue::standing(db, None).unwrap().open, 1);
        // A worker that stops gives back what it has.
        queue::give_back(db, "b").unwrap();
        let two = queue::take(db, "e", short, &[place]).unwrap().unwrap();
        assert_eq!(two.tries, 1);
        queue::renew(db, "e", lease).unwrap();
        assert!(queue::take(db, "f", lease, &[place]).unwrap().is_none(), "it is held");
        assert!(done(db, &two, "e"));
        // The last one leaves the end of the run.
        let end = queue::take(db, "f", lease, &[place]).unwrap().unwrap();
        assert_eq!((end.kind, end.run, end.what.as_str()), (Kind::End, run, "all of it"));
        assert!(done(db, &end, "f"));
        assert_eq!(queue::standing(db, Some(&[place])).unwrap(), queue::Standing::default());
        // What kills whoever takes it is given up, and can be enqueued anew.
        queue::add(db, run, Kind::Check, place, "poison").unwrap();
        for _ in 0..queue::MOST_TRIES {
            assert!(queue::take(db, "g", short, &[place]).unwrap().is_some());
            std::thread::sleep(Duration::from_millis(20));
        }
        assert!(queue::take(db, "g", short, &[place]).unwrap().is_none());
        assert_eq!(queue::standing(db, None).unwrap(), queue::Standing { open: 0, given_up: 1 });
        queue::forget_given_up(db, place).unwrap();
        assert_eq!(queue::standing(db, None).unwrap(), queue::Standing::default());
    });
}

#[test]
fn a_catalogue_of_the_first_version_is_brought_to_this_one() {
    let folder = tempfile::tempdir().unwrap();
    let location = || Location::Folder(folder.path().to_owned());
    let mut cellar = Cellar::create(location()).unwrap();
    let place = Place::add(cellar.db.as_mut(), "/shelf", None, None, None).unwrap();
    keep(cellar.db.as_mut(), place.id, "a.rom", b"one").unwrap();
    cellar.db.script("DROP TABLE task; PRAGMA user_version = 1").unwrap();
    drop(cellar);
    let mut cellar = Cellar::open(location()).unwrap();
    assert!(cellar.db.version().unwrap() > 1);
    assert!(FileRow::at(cellar.db.as_mut(), place.id, "a.rom").unwrap().is_some(), "nothing of it is lost");
    assert_eq!(queue::standing(cellar.db.as_mut(), None).unwrap(), queue::Standing::default());
}
