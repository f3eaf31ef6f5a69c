//! The tables, and how a catalogue of an older version gets them. What they mean: docs/cellar.md.

use crate::database::{Database, together};
use decanter_core::{Error, Result};

/// The version that this program writes.
pub const VERSION: i64 = STEPS.len() as i64;

/// What leads from each version to the next, the first from an empty database. A step that was once shipped is never
/// changed: catalogues are as old as they are.
const STEPS: [&str; 2] = [FIRST, SECOND];

const FIRST: &str = "
CREATE TABLE place (
    id INTEGER PRIMARY KEY,
    root TEXT NOT NULL UNIQUE,      -- absolute path, or the address of a store of objects
    device INTEGER,                 -- number of the device that the folder was on
    volume TEXT,                    -- what the file system is called by itself, where it has such a name
    mount TEXT,                     -- where its file system was mounted
    added INTEGER NOT NULL,         -- times are seconds since 1970, UTC
    begun INTEGER,                  -- the last scan
    scanned INTEGER                 -- the end of the last scan that came to its end
);
CREATE TABLE file (
    id INTEGER PRIMARY KEY,
    place INTEGER NOT NULL REFERENCES place,
    path TEXT NOT NULL,             -- below the place, with /; a blob where the name's bytes are no text
    size INTEGER NOT NULL,
    modified INTEGER NOT NULL,      -- nanoseconds since 1970
    device INTEGER,
    inode INTEGER,
    tag TEXT,                       -- of an object: its ETag
    added INTEGER NOT NULL,         -- first met
    changed INTEGER,                -- other content was met
    moved INTEGER,                  -- met under another name
    was TEXT,                       -- the whole path that it had before
    gone INTEGER,                   -- not met any more
    checked INTEGER,                -- its bytes were read, and had these digests
    crc32 BLOB, md5 BLOB, sha1 BLOB, sha256 BLOB,
    trouble INTEGER NOT NULL DEFAULT 0, -- 0 none, 1 cannot be read, 2 its own checks do not hold, 3 rot, 4 edited
    why TEXT,
    since INTEGER,                  -- when the trouble was met
    format TEXT, kind TEXT, title TEXT, title_id TEXT,
    facts TEXT,                     -- JSON: what identify says
    holds INTEGER NOT NULL DEFAULT 0,   -- 1: its members stand for it
    verdict INTEGER NOT NULL DEFAULT 0, -- 0 not held against sets, 1 match, 2 other name, 3 known bad, 4 differs, 5 unknown, 6 see members, 7 covered by others
    entry INTEGER,                  -- what it is by that
    through TEXT,                   -- what it was found through
    UNIQUE (place, path)
);
CREATE INDEX file_inode ON file (inode);
CREATE INDEX file_sha1 ON file (sha1);
CREATE TABLE member (
    id INTEGER PRIMARY KEY,
    file INTEGER NOT NULL REFERENCES file,
    path TEXT NOT NULL,             -- after the :: of its address
    called TEXT,                    -- the name that sets know it by, where that is another one
    role INTEGER NOT NULL,          -- 0 entry, 1 track
    size INTEGER NOT NULL,
    crc32 BLOB, md5 BLOB, sha1 BLOB, sha256 BLOB,
    why TEXT,                       -- why it cannot be read
    format TEXT, kind TEXT, title TEXT, title_id TEXT,
    verdict INTEGER NOT NULL DEFAULT 0,
    entry INTEGER,
    through TEXT,
    UNIQUE (file, path)
);
CREATE INDEX member_sha1 ON member (sha1);
CREATE TABLE form (                 -- other readings of a file or member that sets may know it by
    id INTEGER PRIMARY KEY,
    file INTEGER NOT NULL REFERENCES file,
    member INTEGER NOT NULL,        -- 0: the file itself
    through TEXT NOT NULL,
    suffix TEXT,                    -- only entries whose names end so
    size INTEGER NOT NULL,
    crc32 BLOB, md5 BLOB, sha1 BLOB, sha256 BLOB
);
CREATE INDEX form_file ON form (file);
CREATE TABLE part (                 -- files that a sheet names
    file INTEGER NOT NULL REFERENCES file,
    path TEXT NOT NULL,
    PRIMARY KEY (file, path)
);
CREATE TABLE label (                -- titles that a package or banner has
    file INTEGER NOT NULL REFERENCES file,
    language TEXT NOT NULL,
    title TEXT NOT NULL
);
CREATE INDEX label_file ON label (file);
CREATE TABLE dat (
    id INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    version TEXT NOT NULL,
    path TEXT NOT NULL,
    digest BLOB NOT NULL,           -- SHA-256 of the file
    is_list INTEGER NOT NULL,
    imported INTEGER NOT NULL,
    is_current INTEGER NOT NULL,    -- what files are held against
    games INTEGER NOT NULL,
    entries INTEGER NOT NULL,
    complete INTEGER NOT NULL DEFAULT 0,
    partial INTEGER NOT NULL DEFAULT 0,
    absent INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE game (
    id INTEGER PRIMARY KEY,
    dat INTEGER NOT NULL REFERENCES dat,
    name TEXT NOT NULL,
    parent TEXT,
    wanted INTEGER NOT NULL DEFAULT 0,  -- entries that somebody has dumped
    had INTEGER NOT NULL DEFAULT 0,
    harmed INTEGER NOT NULL DEFAULT 0   -- here under their names, with wrong bytes
);
CREATE INDEX game_dat ON game (dat);
CREATE TABLE entry (
    id INTEGER PRIMARY KEY,
    dat INTEGER NOT NULL REFERENCES dat,
    game INTEGER NOT NULL REFERENCES game,
    name TEXT NOT NULL,
    size INTEGER,
    crc32 BLOB, md5 BLOB, sha1 BLOB, sha256 BLOB,
    status INTEGER NOT NULL,        -- 0 good, 1 bad dump, 2 not dumped
    proof INTEGER,                  -- first eight bytes of its strongest digest
    name_key INTEGER NOT NULL       -- FNV-1a of its last name, small letters
);
CREATE INDEX entry_proof ON entry (proof);
CREATE INDEX entry_name ON entry (name_key);
CREATE INDEX entry_game ON entry (game);
CREATE TABLE hit (                  -- which entries a file or member is
    entry INTEGER NOT NULL,
    file INTEGER NOT NULL,
    member INTEGER NOT NULL,        -- 0: the file itself
    verdict INTEGER NOT NULL        -- as in file; 7: an image has its tracks, and needs no sheet
);
CREATE INDEX hit_entry ON hit (entry);
CREATE INDEX hit_file ON hit (file);
CREATE TABLE job (
    id INTEGER PRIMARY KEY,
    command TEXT NOT NULL,
    parameters TEXT NOT NULL,       -- JSON: the arguments, as they were typed, without keys
    version TEXT NOT NULL,
    began INTEGER NOT NULL,
    ended INTEGER NOT NULL,
    result INTEGER NOT NULL         -- exit code
);
CREATE TABLE job_file (
    job INTEGER NOT NULL REFERENCES job,
    is_output INTEGER NOT NULL,
    path TEXT NOT NULL,
    size INTEGER NOT NULL,
    modified INTEGER,
    sha1 BLOB, sha256 BLOB
);
CREATE INDEX job_file_job ON job_file (job);
CREATE INDEX job_file_path ON job_file (path);
CREATE INDEX job_file_sha1 ON job_file (sha1);
CREATE INDEX job_file_sha256 ON job_file (sha256);
CREATE TABLE receipt (              -- originals that can be made again from what is kept
    id INTEGER PRIMARY KEY,
    original TEXT NOT NULL,
    size INTEGER NOT NULL,
    sha256 BLOB NOT NULL,
    modified INTEGER NOT NULL,
    mode INTEGER,
    kept TEXT NOT NULL,
    kept_sha256 BLOB NOT NULL,
    way TEXT NOT NULL,              -- JSON: how it is made again
    aside TEXT,                     -- where it was moved to; none if it was removed
    made INTEGER NOT NULL,
    restored INTEGER
);
CREATE INDEX receipt_original ON receipt (original);
CREATE TABLE report (
    id INTEGER PRIMARY KEY,
    made INTEGER NOT NULL,
    counts TEXT NOT NULL            -- JSON
);
CREATE TABLE setting (
    name TEXT PRIMARY KEY,
    value TEXT NOT NULL
);
";

const SECOND: &str = "
CREATE TABLE task (                 -- pieces of work that wait for a worker, or that one has
    id INTEGER PRIMARY KEY,
    run INTEGER NOT NULL,           -- pieces that belong together: when the last one is done, the run ends
    kind INTEGER NOT NULL,          -- 0 a folder is looked into, 1 files are read, 2 files are checked, 3 the end of a run
    place INTEGER NOT NULL REFERENCES place,
    what TEXT NOT NULL,             -- JSON, as the kind has it
    worker TEXT,                    -- who has it
    lease INTEGER,                  -- until then: milliseconds since 1970, by the clock of the database
    tries INTEGER NOT NULL DEFAULT 0    -- workers that have taken it
);
CREATE INDEX task_run ON task (run);
";

/// Brings a catalogue to the version of this program.
///
/// # Errors
/// [`Error::Unsupported`] for one of a newer program; [`Error::Unreadable`] for a database that is none; what the
/// database fails with.
pub fn migrate(db: &mut dyn Database, may_create: bool) -> Result<()> {
    let found = db.version()?;
    match found {
        VERSION => return Ok(()),
        0 if !may_create => return Err(Error::Unreadable { why: "this database holds no catalogue".into() }),
        newer if newer > VERSION => {
            let what = format!(
                "version {newer} of the catalogue: this program knows up to {VERSION}, a newer one made it, and it"
            );
            return Err(Error::unsupported("cellar", what));
        }
        odd if odd < 0 => return Err(Error::Unreadable { why: "this database holds no catalogue".into() }),
        _ => {}
    }
    together(db, |db| {
        // Another program may have done it meanwhile.
        let found = db.version()?;
        for (number, step) in (1..).zip(STEPS) {
            if number > found {
                db.script(step)?;
            }
        }
        db.set_version(VERSION.max(found))
    })
}
