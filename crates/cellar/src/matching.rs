//! Files and their members against the sets: the same verdicts that `verify` has, from digests that are known already.

use crate::database::{Database, all, together};
use crate::files::sums;
use crate::{Value, values};
use decanter_core::catalogue::{Entry, Status, Sums, key, last_name, prefix};
use decanter_core::names::stem_of;
use decanter_core::{Algorithm, Digest, Result};
use std::collections::HashMap;

/// What sets say of a file or member.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// It was not held against any.
    Open,
    /// Content and name are right.
    Match,
    /// The content is right, the name another one.
    OtherName,
    /// The content is that of a dump that is known to be bad.
    KnownBad,
    /// There is an entry of that name with other content.
    Differs,
    /// No entry has that content or name.
    Unknown,
    /// Its members stand for it.
    SeeMembers,
    /// Others that are known hold the same: the tracks of a sheet, or the files that it names.
    Covered,
}

impl Verdict {
    /// As the catalogue has it.
    pub fn code(self) -> i64 {
        self as i64
    }

    /// What a number of the catalogue stands for.
    pub fn of(code: i64) -> Self {
        match code {
            1 => Self::Match,
            2 => Self::OtherName,
            3 => Self::KnownBad,
            4 => Self::Differs,
            5 => Self::Unknown,
            6 => Self::SeeMembers,
            7 => Self::Covered,
            _ => Self::Open,
        }
    }

    /// Whether it is the content of an entry.
    pub fn is_known(self) -> bool {
        matches!(self, Self::Match | Self::OtherName | Self::KnownBad)
    }
}

/// Files that are looked at in one transaction.
const BATCH: i64 = 2000;

/// A file or a member, as sets may know it.
struct Subject {
    file: i64,
    /// 0: the file itself.
    member: i64,
    name: String,
    size: u64,
    sums: Sums,
    is_track: bool,
    holds: bool,
    is_unread: bool,
}

struct Form {
    through: String,
    suffix: Option<String>,
    size: u64,
    sums: Sums,
}

struct Candidate {
    id: i64,
    dat: i64,
    game: i64,
    entry: Entry,
}

/// What is known of a subject.
struct Answer {
    verdict: Verdict,
    hits: Vec<i64>,
    through: Option<String>,
    /// The game of the best hit.
    game: i64,
}

/// The sets that files are held against: the number of each, and whether it is a list of the files of one folder.
type Sets = HashMap<i64, bool>;

/// Holds everything against the current sets that was not held against them yet; `going_on` is asked between transactions.
/// Returns how many files were looked at.
///
/// # Errors
/// What the database fails with, and `going_on`.
pub fn pending(db: &mut dyn Database, going_on: &mut dyn FnMut(usize) -> Result<()>) -> Result<usize> {
    let sets: Sets =
        all(db, "SELECT id, is_list FROM dat WHERE is_current = 1", &[], |row| (row[0].int(), row[1].int() != 0))?
            .into_iter()
            .collect();
    let mut count = 0;
    if !sets.is_empty() {
        let mut after = 0;
        loop {
            going_on(count)?;
            let done = together(db, |db| batch(db, &sets, after))?;
            let Some((last, looked_at)) = done else { break };
            after = last;
            count += looked_at;
        }
    }
    if count > 0 {
        together(db, sheets)?;
    }
    together(db, recount)?;
    Ok(count)
}

/// Forgets all verdicts: the sets are others now.
///
/// # Errors
/// What the database fails with.
pub fn forget(db: &mut dyn Database) -> Result<()> {
    db.run("UPDATE file SET verdict = 0, entry = NULL, through = NULL WHERE verdict <> 0", &[])?;
    db.run("UPDATE member SET verdict = 0, entry = NULL, through = NULL WHERE verdict <> 0", &[])?;
    db.run("DELETE FROM hit", &[]).map(|_| ())
}

/// Looks at the files after a number; the last number and how many there were.
fn batch(db: &mut dyn Database, sets: &Sets, after: i64) -> Result<Option<(i64, usize)>> {
    let sql = "SELECT id, path, size, crc32, md5, sha1, sha256, holds, trouble FROM file
        WHERE verdict = 0 AND id > ?1 AND gone IS NULL ORDER BY id LIMIT ?2";
    let files = all(db, sql, values![after, BATCH], |row| Subject {
        file: row[0].int(),
        member: 0,
        name: row[1].text(),
        size: row[2].unsigned(),
        sums: sums(&row[3..7]),
        is_track: false,
        holds: row[7].int() != 0,
        is_unread: row[8].int() == 1,
    })?;
    let Some(last) = files.last().map(|f| f.file) else { return Ok(None) };
    for file in &files {
        if !file.is_unread {
            look(db, sets, file)?;
        }
    }
    Ok(Some((last, files.len())))
}

fn look(db: &mut dyn Database, sets: &Sets, file: &Subject) -> Result<()> {
    let own = known(db, sets, file)?;
    let members = members(db, file)?;
    // A container is what it holds, unless a set knows it as such.
    if !file.holds || own.verdict.is_known() {
        keep(db, file, &own)?;
        for member in &members {
            set(db, member, Verdict::Covered, None, None)?;
        }
        return Ok(());
    }
    set(db, file, Verdict::SeeMembers, None, None)?;
    for member in &members {
        let answer = match member.is_unread {
            // It has the name of an entry at best; its bytes are told to be wrong already.
            true => named(db, sets, member)?,
            false => known(db, sets, member)?,
        };
        keep(db, member, &answer)?;
    }
    Ok(())
}

fn members(db: &mut dyn Database, file: &Subject) -> Result<Vec<Subject>> {
    let stem = |path: &str| stem_of(last_name(path)).to_owned();
    let sql =
        "SELECT id, path, called, role, size, crc32, md5, sha1, sha256, why FROM member WHERE file = ?1 ORDER BY id";
    let own = stem(&file.name);
    all(db, sql, values![file.file], |row| Subject {
        file: file.file,
        member: row[0].int(),
        // `*` stands for the name that the file itself has at the moment: it may be renamed.
        name: row[2].maybe_text().map_or_else(|| row[1].text(), |called| called.replace('*', &own)),
        size: row[4].unsigned(),
        sums: sums(&row[5..9]),
        is_track: row[3].int() == 1,
        holds: false,
        is_unread: row[9].maybe_text().is_some(),
    })
}

/// What is known of it, as it stands or in another form.
fn known(db: &mut dyn Database, sets: &Sets, subject: &Subject) -> Result<Answer> {
    let plain = as_such(db, sets, subject, subject.size, &subject.sums, None)?;
    if plain.verdict.is_known() {
        return Ok(plain);
    }
    let sql =
        "SELECT through, suffix, size, crc32, md5, sha1, sha256 FROM form WHERE file = ?1 AND member = ?2 ORDER BY id";
    let forms = all(db, sql, values![subject.file, subject.member], |row| Form {
        through: row[0].text(),
        suffix: row[1].maybe_text(),
        size: row[2].unsigned(),
        sums: sums(&row[3..7]),
    })?;
    for form in forms {
        let found = as_such(db, sets, subject, form.size, &form.sums, form.suffix.as_deref())?;
        if found.verdict.is_known() {
            return Ok(Answer { through: Some(form.through), ..found });
        }
    }
    Ok(plain)
}

/// What is known of these bytes under the name of a subject. Bytes of another form have another extension, too.
fn as_such(
    db: &mut dyn Database,
    sets: &Sets,
    subject: &Subject,
    size: u64,
    sums: &Sums,
    suffix: Option<&str>,
) -> Result<Answer> {
    let is_form = size != subject.size || sums.strongest() != subject.sums.strongest();
    let digests: Vec<Digest> = Algorithm::ALL
        .into_iter()
        .filter_map(|algorithm| Some(Digest { algorithm, bytes: sums.get(algorithm)?.to_vec() }))
        .collect();
    let mut hits: Vec<Candidate> = Vec::new();
    for digest in &digests {
        let sql = "SELECT id, dat, game, name, size, crc32, md5, sha1, sha256, status FROM entry WHERE proof = ?1";
        let found = all(db, sql, values![Value::bits(prefix(&digest.bytes))], candidate)?;
        let fits = |c: &Candidate| {
            sets.contains_key(&c.dat)
                && c.entry.fits(size, &digests)
                && suffix.is_none_or(|end| c.entry.name.to_lowercase().ends_with(end))
                && !hits.iter().any(|h| h.id == c.id)
        };
        let fitting: Vec<Candidate> = found.into_iter().filter(fits).collect();
        hits.extend(fitting);
    }
    if hits.is_empty() {
        return if is_form { Ok(unknown()) } else { named(db, sets, subject) };
    }
    let name = tidy(&subject.name);
    // A good entry goes before a bad one, then the whole path counts, then the name.
    hits.sort_by_cached_key(|hit| {
        let own = tidy(&hit.entry.name);
        (hit.entry.status == Status::BadDump, own != name, last_name(&own) != last_name(&name))
    });
    let best = &hits[0].entry;
    let stem = |name: &str| stem_of(last_name(name)).to_lowercase();
    let has_name = match is_form || subject.is_track {
        true => stem(&best.name) == stem(&name),
        false => last_name(&best.name) == last_name(&name),
    };
    let verdict = match best.status {
        Status::BadDump => Verdict::KnownBad,
        _ if has_name => Verdict::Match,
        _ => Verdict::OtherName,
    };
    Ok(Answer { verdict, game: hits[0].game, hits: hits.iter().map(|h| h.id).collect(), through: None })
}

/// What is known of a subject whose bytes no entry has: its name may be that of one.
fn named(db: &mut dyn Database, sets: &Sets, subject: &Subject) -> Result<Answer> {
    let sql = "SELECT id, dat, game, name, size, crc32, md5, sha1, sha256, status FROM entry WHERE name_key = ?1";
    let found = all(db, sql, values![Value::bits(key(&subject.name))], candidate)?;
    let name = tidy(&subject.name);
    // In a list the same name may stand in many folders: then the whole path has to fit.
    let fits = |c: &&Candidate| {
        let own = tidy(&c.entry.name);
        last_name(&own).eq_ignore_ascii_case(last_name(&name))
            && sets
                .get(&c.dat)
                .is_some_and(|is_list| !is_list || own == name || !own.contains('/') || !name.contains('/'))
    };
    let best = found.iter().filter(fits).find(|c| c.entry.status != Status::NoDump);
    Ok(match best {
        Some(best) => Answer { verdict: Verdict::Differs, hits: vec![best.id], through: None, game: best.game },
        None => unknown(),
    })
}

fn unknown() -> Answer {
    Answer { verdict: Verdict::Unknown, hits: Vec::new(), through: None, game: 0 }
}

fn candidate(row: &[Value]) -> Candidate {
    let status = match row[9].int() {
        1 => Status::BadDump,
        2 => Status::NoDump,
        _ => Status::Good,
    };
    let len = row[4].maybe_int().and_then(|len| u64::try_from(len).ok());
    let entry = Entry { name: row[3].text().into(), len, sums: sums(&row[5..9]), status, game: 0 };
    Candidate { id: row[0].int(), dat: row[1].int(), game: row[2].int(), entry }
}

fn keep(db: &mut dyn Database, subject: &Subject, answer: &Answer) -> Result<()> {
    set(db, subject, answer.verdict, answer.hits.first().copied(), answer.through.as_deref())?;
    let insert = "INSERT INTO hit (entry, file, member, verdict) VALUES (?1, ?2, ?3, ?4)";
    for hit in &answer.hits {
        db.run(insert, values![*hit, subject.file, subject.member, answer.verdict.code()])?;
    }
    if subject.is_track && answer.verdict.is_known() {
        // An image that holds the tracks has no sheet, and none is missing then.
        let entries = all(db, "SELECT id, name FROM entry WHERE game = ?1", values![answer.game], |row| {
            (row[0].int(), row[1].text())
        })?;
        for (sheet, _) in entries.iter().filter(|(_, name)| name.to_lowercase().ends_with(".cue")) {
            db.run(insert, values![*sheet, subject.file, subject.member, Verdict::Covered.code()])?;
        }
    }
    Ok(())
}

fn set(
    db: &mut dyn Database,
    subject: &Subject,
    verdict: Verdict,
    entry: Option<i64>,
    through: Option<&str>,
) -> Result<()> {
    let (table, id) = if subject.member == 0 { ("file", subject.file) } else { ("member", subject.member) };
    let sql = format!("UPDATE {table} SET verdict = ?1, entry = ?2, through = ?3 WHERE id = ?4");
    db.run(&sql, values![verdict.code(), Value::number(entry), Value::maybe(through), id]).map(|_| ())
}

/// Of a sheet, its tracks and the files that they share, a set knows the one or the other: where one side is known as a
/// whole, what is not known of the other says nothing.
fn sheets(db: &mut dyn Database) -> Result<()> {
    let sql =
        "SELECT p.file, s.place, p.path FROM part p JOIN file s ON s.id = p.file WHERE s.gone IS NULL ORDER BY p.file";
    let mut named: HashMap<i64, Vec<i64>> = HashMap::new();
    for (sheet, place, path) in all(db, sql, &[], |row| (row[0].int(), row[1].int(), row[2].text()))? {
        let sql = "SELECT id FROM file WHERE place = ?1 AND path = ?2 AND gone IS NULL";
        let part = crate::database::number(db, sql, values![place, Value::Name(path)])?;
        named.entry(sheet).or_default().push(part);
    }
    let verdicts =
        |db: &mut dyn Database, sql: &str, id: i64| all(db, sql, values![id], |row| Verdict::of(row[0].int()));
    let all_known = |verdicts: &[Verdict]| !verdicts.is_empty() && verdicts.iter().all(|v| v.is_known());
    let cover = |db: &mut dyn Database, table: &str, column: &str, id: i64| -> Result<()> {
        let is_member = if table == "member" { "member <> 0" } else { "member = 0" };
        db.run(&format!("DELETE FROM hit WHERE file = ?1 AND verdict = 4 AND {is_member}"), values![id])?;
        let sql = format!("UPDATE {table} SET verdict = 7, entry = NULL WHERE {column} = ?1 AND verdict IN (4, 5, 6)");
        db.run(&sql, values![id]).map(|_| ())
    };
    for (sheet, parts) in named {
        let mut files = Vec::new();
        for part in &parts {
            files.extend(verdicts(db, "SELECT verdict FROM file WHERE id = ?1", *part)?);
        }
        let tracks = verdicts(db, "SELECT verdict FROM member WHERE file = ?1 AND role = 1", sheet)?;
        if files.len() == parts.len() && all_known(&files) {
            cover(db, "member", "file", sheet)?;
        } else if all_known(&tracks) {
            for file in parts.iter().chain([&sheet]) {
                cover(db, "file", "id", *file)?;
            }
        }
    }
    Ok(())
}

/// Counts what is there of each game and set.
///
/// # Errors
/// What the database fails with.
pub fn recount(db: &mut dyn Database) -> Result<()> {
    db.run("UPDATE game SET had = 0, harmed = 0 WHERE had <> 0 OR harmed <> 0", &[])?;
    // A file that has rotted, or cannot be read, is no copy of what it was.
    let sql = "SELECT e.game, e.id, MAX(CASE WHEN h.verdict <> 4 AND f.trouble = 0 THEN 1 ELSE 0 END)
        FROM hit h JOIN file f ON f.id = h.file JOIN entry e ON e.id = h.entry
        WHERE f.gone IS NULL AND e.status <> 2 GROUP BY e.game, e.id";
    let mut games: HashMap<i64, (i64, i64)> = HashMap::new();
    db.ask(sql, &[], &mut |row| {
        let game = games.entry(row[0].int()).or_default();
        if row[2].int() == 1 {
            game.0 += 1
        } else {
            game.1 += 1
        }
        Ok(())
    })?;
    for (game, (had, harmed)) in games {
        db.run("UPDATE game SET had = ?1, harmed = ?2 WHERE id = ?3", values![had, harmed, game])?;
    }
    let sql = "SELECT dat, SUM(CASE WHEN had >= wanted THEN 1 ELSE 0 END),
            SUM(CASE WHEN had < wanted AND had + harmed > 0 THEN 1 ELSE 0 END),
            SUM(CASE WHEN had + harmed = 0 THEN 1 ELSE 0 END)
        FROM game WHERE wanted > 0 GROUP BY dat";
    let totals = all(db, sql, &[], |row| (row[0].int(), row[1].int(), row[2].int(), row[3].int()))?;
    for (dat, complete, partial, absent) in totals {
        let sql = "UPDATE dat SET complete = ?1, partial = ?2, absent = ?3 WHERE id = ?4";
        db.run(sql, values![complete, partial, absent, dat])?;
    }
    Ok(())
}

/// A path as sets may spell it: `./a\b` is `a/b`.
fn tidy(path: &str) -> String {
    path.replace('\\', "/").trim_start_matches("./").to_owned()
}
