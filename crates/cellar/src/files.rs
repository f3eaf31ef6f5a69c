//! Files, what is in them, and what was met on a scan.

use crate::database::{Database, all, first};
use crate::{Value, now, values};
use decanter_core::catalogue::Sums;
use decanter_core::{Algorithm, Digest, Result};

/// What is wrong with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Nothing.
    None,
    /// It cannot be read.
    Unreadable,
    /// Checks that it carries itself do not hold.
    Damaged,
    /// Its bytes have changed, and its time has not.
    Rot,
    /// Its bytes have changed, and its time has, too.
    Edited,
}

impl Trouble {
    /// As the catalogue has it.
    pub fn code(self) -> i64 {
        self as i64
    }

    /// What a number of the catalogue stands for.
    pub fn of(code: i64) -> Self {
        match code {
            1 => Self::Unreadable,
            2 => Self::Damaged,
            3 => Self::Rot,
            4 => Self::Edited,
            _ => Self::None,
        }
    }

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "sound",
            Self::Unreadable => "unreadable",
            Self::Damaged => "damaged",
            Self::Rot => "rot",
            Self::Edited => "edited",
        }
    }
}

/// What a file system says of a file: where none of it has changed, the bytes are taken to be the same.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Stamp {
    /// Length in bytes.
    pub size: u64,
    /// Nanoseconds since 1970.
    pub modified: i64,
    /// The device.
    pub device: Option<i64>,
    /// Its number there.
    pub inode: Option<i64>,
    /// Of an object: what its store says that changes with its bytes.
    pub tag: Option<String>,
}

/// A file as the catalogue knows it.
#[derive(Debug, Clone)]
pub struct FileRow {
    /// Its number.
    pub id: i64,
    /// The number of its place.
    pub place: i64,
    /// Its path below that.
    pub path: String,
    /// As it was when it was read.
    pub stamp: Stamp,
    /// Its digests.
    pub sums: Sums,
    /// What is wrong with it, and more on that.
    pub trouble: (Trouble, Option<String>),
    /// When it was not met any more.
    pub gone: Option<i64>,
    /// When its bytes had their digests last.
    pub checked: Option<i64>,
}

const COLUMNS: &str =
    "id, place, path, size, modified, device, inode, tag, crc32, md5, sha1, sha256, trouble, why, gone, checked";

impl FileRow {
    fn of(row: &[Value]) -> Self {
        Self {
            id: row[0].int(),
            place: row[1].int(),
            path: row[2].text(),
            stamp: Stamp {
                size: row[3].unsigned(),
                modified: row[4].int(),
                device: row[5].maybe_int(),
                inode: row[6].maybe_int(),
                tag: row[7].maybe_text(),
            },
            sums: sums(&row[8..12]),
            trouble: (Trouble::of(row[12].int()), row[13].maybe_text()),
            gone: row[14].maybe_int(),
            checked: row[15].maybe_int(),
        }
    }

    /// The file at a path of a place.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn at(db: &mut dyn Database, place: i64, path: &str) -> Result<Option<Self>> {
        let sql = format!("SELECT {COLUMNS} FROM file WHERE place = ?1 AND path = ?2");
        let row = first(db, &sql, values![place, Value::Name(path.to_owned())])?;
        Ok(row.map(|row| Self::of(&row)))
    }

    /// The file of this number.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn get(db: &mut dyn Database, id: i64) -> Result<Option<Self>> {
        let row = first(db, &format!("SELECT {COLUMNS} FROM file WHERE id = ?1"), values![id])?;
        Ok(row.map(|row| Self::of(&row)))
    }

    /// Files that a stamp fits, wherever they are: the same file under other names.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn with_stamp(db: &mut dyn Database, stamp: &Stamp) -> Result<Vec<Self>> {
        let (Some(device), Some(inode)) = (stamp.device, stamp.inode) else { return Ok(Vec::new()) };
        let sql =
            format!("SELECT {COLUMNS} FROM file WHERE inode = ?1 AND device = ?2 AND size = ?3 AND modified = ?4");
        all(db, &sql, values![inode, device, Value::len(stamp.size), stamp.modified], Self::of)
    }

    /// The numbers of the files that are here and were read, those first that were not checked for longest: all, or those of
    /// some places, or those that were last checked before a time.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn by_age(db: &mut dyn Database, places: &[i64], before: Option<i64>) -> Result<Vec<i64>> {
        let sql =
            "SELECT id, place FROM file WHERE gone IS NULL AND sha1 IS NOT NULL AND checked < ?1 ORDER BY checked, id";
        let mut ids = Vec::new();
        db.ask(sql, values![before.unwrap_or(i64::MAX)], &mut |row| {
            if places.is_empty() || places.contains(&row[1].int()) {
                ids.push(row[0].int());
            }
            Ok(())
        })?;
        Ok(ids)
    }

    /// Sets what is wrong with it.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn set_trouble(&self, db: &mut dyn Database, trouble: Trouble, why: Option<&str>) -> Result<()> {
        let since = if trouble == Trouble::None { Value::Null } else { Value::Int(now()) };
        let sql = "UPDATE file SET trouble = ?1, why = ?2, since = CASE WHEN trouble = ?1 THEN since ELSE ?3 END WHERE id = ?4";
        db.run(sql, values![trouble.code(), Value::maybe(why), since, self.id]).map(|_| ())
    }

    /// Notes that its bytes were read and are what they were; what was wrong before is mended.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn set_checked(&self, db: &mut dyn Database) -> Result<()> {
        let heal =
            if matches!(self.trouble.0, Trouble::Damaged) { "" } else { ", trouble = 0, why = NULL, since = NULL" };
        db.run(&format!("UPDATE file SET checked = ?1{heal} WHERE id = ?2"), values![now(), self.id]).map(|_| ())
    }

    /// Numbers of the files of a place that are here, each with its path.
    ///
    /// # Errors
    /// What the database fails with, and `each`.
    pub fn each_here(db: &mut dyn Database, place: i64, each: &mut dyn FnMut(i64, String) -> Result<()>) -> Result<()> {
        let sql = "SELECT id, path FROM file WHERE place = ?1 AND gone IS NULL";
        db.ask(sql, values![place], &mut |row| each(row[0].int(), row[1].text()))
    }

    /// The same for the files below a folder of it; all of them, if that is empty.
    ///
    /// # Errors
    /// As [`FileRow::each_here`].
    pub fn each_below(
        db: &mut dyn Database,
        place: i64,
        folder: &str,
        each: &mut dyn FnMut(i64, String) -> Result<()>,
    ) -> Result<()> {
        if folder.is_empty() {
            return Self::each_here(db, place, each);
        }
        // Everything that begins with the folder and a slash stands before the next character. Names that are no text stand
        // behind all that are, where they are kept as bytes.
        let ranges = [(format!("{folder}/"), Some(format!("{folder}0"))), ("\u{10ffff}".to_owned(), None)];
        for (from, to) in ranges {
            let end = if to.is_some() { "AND path < ?3" } else { "AND path > ?3" };
            let sql = format!("SELECT id, path FROM file WHERE place = ?1 AND gone IS NULL AND path >= ?2 {end}");
            let last = to.unwrap_or_else(|| from.clone());
            db.ask(&sql, values![place, from.as_str(), last.as_str()], &mut |row| {
                let path = row[1].text();
                if path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')) {
                    each(row[0].int(), path)?;
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// Notes that it is not there any more.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn set_gone(db: &mut dyn Database, id: i64) -> Result<()> {
        db.run("UPDATE file SET gone = ?1 WHERE id = ?2 AND gone IS NULL", values![now(), id]).map(|_| ())
    }

    /// Gives it another place and path, with the stamp that it has there: what is known of its bytes goes with it.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn move_to(&self, db: &mut dyn Database, was: &str, place: i64, path: &str, stamp: &Stamp) -> Result<()> {
        forget(db, place, path, Some(self.id))?;
        let sql = "UPDATE file SET place = ?1, path = ?2, moved = ?3, was = ?4, gone = NULL, verdict = 0, entry = NULL,
            through = NULL, modified = ?5, device = ?6, inode = ?7 WHERE id = ?8";
        let name = |text: &str| Value::Name(text.to_owned());
        let (device, inode) = (Value::number(stamp.device), Value::number(stamp.inode));
        db.run(sql, values![place, name(path), now(), name(was), stamp.modified, device, inode, self.id])?;
        db.run("UPDATE member SET verdict = 0, entry = NULL WHERE file = ?1", values![self.id])?;
        db.run("DELETE FROM hit WHERE file = ?1", values![self.id]).map(|_| ())
    }
}

/// What is known of some bytes.
#[derive(Debug, Clone, Default)]
pub struct Content {
    /// Length in bytes.
    pub size: u64,
    /// Digests.
    pub sums: Sums,
    /// Id of the format.
    pub format: Option<String>,
    /// What it is, in a few words.
    pub kind: Option<String>,
    /// Its title, as it says itself.
    pub title: Option<String>,
    /// The id that its platform gave it.
    pub title_id: Option<String>,
}

/// A member of a file: an entry of an archive, the image in a compressed one, a track.
#[derive(Debug, Clone, Default)]
pub struct MemberRow {
    /// What stands after the `::`.
    pub path: String,
    /// The name that sets know it by, where that is another one.
    pub called: Option<String>,
    /// Whether it is a track of a disc.
    pub is_track: bool,
    /// Its bytes.
    pub content: Content,
    /// Why it cannot be read.
    pub why: Option<String>,
    /// Other readings of it.
    pub forms: Vec<Form>,
}

/// Another reading of the same, which sets may know it by.
#[derive(Debug, Clone, Default)]
pub struct Form {
    /// In words.
    pub through: String,
    /// Only entries whose names end so are meant.
    pub suffix: Option<String>,
    /// Length in bytes.
    pub size: u64,
    /// Digests.
    pub sums: Sums,
}

/// What was found in a file that was read.
#[derive(Debug, Clone, Default)]
pub struct Found {
    /// Its bytes.
    pub content: Content,
    /// JSON of what identify says.
    pub facts: Option<String>,
    /// Whether its members stand for it.
    pub holds: bool,
    /// What is in it.
    pub members: Vec<MemberRow>,
    /// Other readings of it.
    pub forms: Vec<Form>,
    /// Files that it names, by their paths in its place.
    pub parts: Vec<String>,
    /// Titles, each with its language.
    pub labels: Vec<(String, String)>,
    /// What is wrong with it.
    pub trouble: Option<(Trouble, String)>,
}

/// Removes what stands at a path, but for one row.
fn forget(db: &mut dyn Database, place: i64, path: &str, but: Option<i64>) -> Result<()> {
    if let Some(other) = FileRow::at(db, place, path)?.filter(|row| Some(row.id) != but) {
        forget_inside(db, other.id)?;
        db.run("DELETE FROM file WHERE id = ?1", values![other.id])?;
    }
    Ok(())
}

/// Removes what is known of the inside of a file.
fn forget_inside(db: &mut dyn Database, id: i64) -> Result<()> {
    for table in ["member", "form", "part", "label", "hit"] {
        db.run(&format!("DELETE FROM {table} WHERE file = ?1"), values![id])?;
    }
    Ok(())
}

/// What came of keeping a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kept {
    /// It was not known.
    New,
    /// It was known with other bytes.
    Changed,
    /// It was known with these bytes.
    Same,
}

/// Keeps what was found in the file at a path.
///
/// # Errors
/// What the database fails with.
pub fn keep(db: &mut dyn Database, place: i64, path: &str, stamp: &Stamp, found: &Found) -> Result<(i64, Kept)> {
    let content = &found.content;
    let is_read = content.sums.strongest().is_some();
    let (trouble, why) = match &found.trouble {
        Some((trouble, why)) => (*trouble, Some(why.as_str())),
        None => (Trouble::None, None),
    };
    let time = now();
    let [crc32, md5, sha1, sha256] = columns(&content.sums);
    let text = |t: &Option<String>| Value::maybe(t.as_deref());
    let values = values![
        place,
        Value::Name(path.to_owned()),
        Value::len(stamp.size),
        stamp.modified,
        Value::number(stamp.device),
        Value::number(stamp.inode),
        text(&stamp.tag),
        time,
        if is_read { Value::Int(time) } else { Value::Null },
        crc32,
        md5,
        sha1,
        sha256,
        trouble.code(),
        Value::maybe(why),
        if trouble == Trouble::None { Value::Null } else { Value::Int(time) },
        text(&content.format),
        text(&content.kind),
        text(&content.title),
        text(&content.title_id),
        text(&found.facts),
        i64::from(found.holds),
    ];
    let added = db.insert("INSERT INTO file (place, path, size, modified, device, inode, tag, added, checked, crc32, md5, sha1, sha256, trouble,
             why, since, format, kind, title, title_id, facts, holds)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22)
         ON CONFLICT DO NOTHING",
        values,
    )?;
    let known = if added == 0 { FileRow::at(db, place, path)? } else { None };
    let (id, kept) = match known {
        None => (added, Kept::New),
        Some(row) => {
            let is_same = !is_read || agree(&row.sums, &content.sums);
            forget_inside(db, row.id)?;
            // Places 1, 2 and 8 are those of the file's own name and of when it was met first: the last says when it changed.
            let sql = format!(
                "UPDATE file SET size = ?3, modified = ?4, device = ?5, inode = ?6, tag = ?7, {} gone = NULL, checked = ?9,
                 crc32 = ?10, md5 = ?11, sha1 = ?12, sha256 = ?13, trouble = ?14, why = ?15, since = ?16, format = ?17, kind = ?18,
                 title = ?19, title_id = ?20, facts = ?21, holds = ?22, verdict = 0, entry = NULL, through = NULL
                 WHERE place = ?1 AND path = ?2 AND ?8 > 0",
                if is_same { "" } else { "changed = ?8," }
            );
            db.run(&sql, values)?;
            (row.id, if is_same { Kept::Same } else { Kept::Changed })
        }
    };
    found.forms.iter().try_for_each(|form| keep_form(db, id, 0, form))?;
    for member in &found.members {
        keep_member(db, id, member)?;
    }
    for part in &found.parts {
        let sql = "INSERT INTO part (file, path) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        db.run(sql, values![id, Value::Name(part.clone())])?;
    }
    for (language, title) in &found.labels {
        let sql = "INSERT INTO label (file, language, title) VALUES (?1, ?2, ?3)";
        db.run(sql, values![id, language.as_str(), title.as_str()])?;
    }
    Ok((id, kept))
}

fn keep_form(db: &mut dyn Database, file: i64, member: i64, form: &Form) -> Result<()> {
    let [crc32, md5, sha1, sha256] = columns(&form.sums);
    let sql = "INSERT INTO form (file, member, through, suffix, size, crc32, md5, sha1, sha256)
        VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    let (suffix, size) = (Value::maybe(form.suffix.as_deref()), Value::len(form.size));
    db.run(sql, values![file, member, form.through.as_str(), suffix, size, crc32, md5, sha1, sha256]).map(|_| ())
}

fn keep_member(db: &mut dyn Database, file: i64, member: &MemberRow) -> Result<()> {
    let text = |t: &Option<String>| Value::maybe(t.as_deref());
    let [crc32, md5, sha1, sha256] = columns(&member.content.sums);
    // An archive may have a name twice: the first one is what others unpack.
    let id = db.insert("INSERT INTO member (file, path, called, role, size, crc32, md5, sha1, sha256, why, format, kind, title, title_id)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14) ON CONFLICT DO NOTHING",
        values![
            file,
            Value::Name(member.path.clone()),
            text(&member.called),
            i64::from(member.is_track),
            Value::len(member.content.size),
            crc32,
            md5,
            sha1,
            sha256,
            text(&member.why),
            text(&member.content.format),
            text(&member.content.kind),
            text(&member.content.title),
            text(&member.content.title_id),
        ],
    )?;
    if id > 0 {
        member.forms.iter().try_for_each(|form| keep_form(db, file, id, form))?;
    }
    Ok(())
}

/// Gives a path what is known of another file with the same bytes: a second name for it. Returns its number.
///
/// # Errors
/// What the database fails with.
pub fn keep_link(db: &mut dyn Database, other: &FileRow, place: i64, path: &str, stamp: &Stamp) -> Result<i64> {
    forget(db, place, path, Some(other.id))?;
    let id = db.insert("INSERT INTO file (place, path, size, modified, device, inode, added, checked, crc32, md5, sha1, sha256, trouble, why,
             since, format, kind, title, title_id, facts, holds)
         SELECT ?1, ?2, size, ?3, ?4, ?5, ?6, checked, crc32, md5, sha1, sha256, trouble, why, since, format, kind, title,
             title_id, facts, holds FROM file WHERE id = ?7",
        values![
            place,
            Value::Name(path.to_owned()),
            stamp.modified,
            Value::number(stamp.device),
            Value::number(stamp.inode),
            now(),
            other.id
        ],
    )?;
    let members = all(db, "SELECT id FROM member WHERE file = ?1", values![other.id], |row| row[0].int())?;
    for member in members {
        let copy = db.insert("INSERT INTO member (file, path, called, role, size, crc32, md5, sha1, sha256, why, format, kind, title, title_id)
             SELECT ?1, path, called, role, size, crc32, md5, sha1, sha256, why, format, kind, title, title_id
             FROM member WHERE id = ?2",
            values![id, member],
        )?;
        copy_forms(db, other.id, member, id, copy)?;
    }
    copy_forms(db, other.id, 0, id, 0)?;
    db.run("INSERT INTO label SELECT ?1, language, title FROM label WHERE file = ?2", values![id, other.id])?;
    Ok(id)
}

fn copy_forms(db: &mut dyn Database, from: i64, member: i64, to: i64, to_member: i64) -> Result<()> {
    let sql = "INSERT INTO form (file, member, through, suffix, size, crc32, md5, sha1, sha256)
        SELECT ?1, ?2, through, suffix, size, crc32, md5, sha1, sha256 FROM form WHERE file = ?3 AND member = ?4";
    db.run(sql, values![to, to_member, from, member]).map(|_| ())
}

/// Adds digests to a file or a member that has others already.
///
/// # Errors
/// What the database fails with.
pub fn add_sums(db: &mut dyn Database, table: &str, id: i64, digests: &[Digest]) -> Result<()> {
    for digest in digests {
        let sql = format!("UPDATE {table} SET {} = ?1 WHERE id = ?2", digest.algorithm.id());
        db.run(&sql, values![Value::Blob(digest.bytes.clone()), id])?;
    }
    Ok(())
}

/// Digests out of four columns.
pub(crate) fn sums(row: &[Value]) -> Sums {
    let mut sums = Sums::default();
    for (algorithm, value) in Algorithm::ALL.into_iter().zip(row) {
        if let Some(bytes) = value.blob() {
            // One of a wrong length is none.
            sums.set(algorithm, bytes);
        }
    }
    sums
}

/// Digests for four columns.
pub(crate) fn columns(sums: &Sums) -> [Value; 4] {
    Algorithm::ALL.map(|a| sums.get(a).map_or(Value::Null, |bytes| Value::Blob(bytes.to_vec())))
}

/// Whether all digests that are known of both are the same, and there is one.
pub fn agree(one: &Sums, other: &Sums) -> bool {
    let both = Algorithm::ALL.into_iter().filter_map(|a| Some((one.get(a)?, other.get(a)?)));
    let mut is_any = false;
    for (a, b) in both {
        is_any = true;
        if a != b {
            return false;
        }
    }
    is_any
}
