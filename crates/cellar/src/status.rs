//! What the collection has and lacks, as counts and as rows.

use crate::database::{Database, all, first, number};
use crate::files::Trouble;
use crate::matching::Verdict;
use crate::{Place, Value, values};
use decanter_core::Result;
use decanter_core::digest::hex;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, HashSet};

/// How many there are of everything.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Counts {
    /// Files that are here.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Files and members with the content and the name of an entry.
    pub matching: u64,
    /// Files and members with the content of an entry, and another name.
    pub renamed: u64,
    /// Files and members that are known to be bad dumps.
    pub known_bad: u64,
    /// Files and members that cannot be read, whose checks do not hold, that have rotted, or have the name of an entry and
    /// other bytes.
    pub damaged: u64,
    /// Files and members that no set knows.
    pub unknown: u64,
    /// Files that were not held against the sets yet.
    pub open: u64,
    /// Files and members beyond the first of the same content.
    pub doubles: u64,
    /// Entries of the sets that are not here.
    pub missing: u64,
    /// Files that were here once.
    pub gone: u64,
}

/// A set, and what is there of it.
#[derive(Debug, Clone, Serialize)]
pub struct SetRow {
    /// What it calls itself.
    pub name: String,
    /// Its version.
    pub version: String,
    /// Older and newer versions that are kept beside it.
    pub other_versions: Vec<String>,
    /// Its games.
    pub games: u64,
    /// Games of which everything is here.
    pub complete: u64,
    /// Games of which something is here.
    pub partial: u64,
    /// Games of which nothing is here.
    pub missing: u64,
    /// Games that nobody has dumped.
    pub not_dumped: u64,
    /// Entries that somebody has dumped.
    pub entries: u64,
    /// Those of them that are here.
    pub have: u64,
    /// Bytes of the files that are of it.
    pub bytes: u64,
}

/// A line of a list; what it has depends on the list.
#[derive(Debug, Clone, Default, Serialize)]
pub struct Row {
    /// The whole path, or the file's with `::` and the member's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub set: Option<String>,
    /// The game.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub game: Option<String>,
    /// The game that this one is a variant of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
    /// The entry.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// `complete`, `partial` or `missing`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<&'static str>,
    /// Length in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub bytes: Option<u64>,
    /// The strongest digest that is known, with its algorithm.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// What it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// What is wrong with it: `rot`, `edited`, `damaged`, `unreadable`, `differs`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub damage: Option<&'static str>,
    /// More on that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// Doubles with the same number have the same content.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<u64>,
    /// Where the same content is, as far as the catalogue knows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub good_copy: Option<String>,
}

/// A selection of rows: those of one set, or all.
pub type Set<'a> = Option<&'a SetRow>;

const HERE: &str = "gone IS NULL";

/// Counts everything.
///
/// # Errors
/// What the database fails with.
pub fn counts(db: &mut dyn Database) -> Result<Counts> {
    let mut counts = Counts::default();
    let row = first(db, &format!("SELECT count(*), sum(size) FROM file WHERE {HERE}"), &[])?.unwrap_or_default();
    counts.files = row.first().map_or(0, Value::unsigned);
    counts.bytes = row.get(1).map_or(0, Value::unsigned);
    counts.gone = number(db, "SELECT count(*) FROM file WHERE gone IS NOT NULL", &[])?.unsigned_abs();
    let files = "SELECT verdict, count(*) FROM file WHERE gone IS NULL GROUP BY verdict";
    let members = "SELECT m.verdict, count(*) FROM member m JOIN file f ON f.id = m.file WHERE f.gone IS NULL AND m.why IS NULL GROUP BY m.verdict";
    for (sql, is_file) in [(files, true), (members, false)] {
        for (verdict, count) in all(db, sql, &[], |row| (Verdict::of(row[0].int()), row[1].unsigned()))? {
            *match verdict {
                Verdict::Match => &mut counts.matching,
                Verdict::OtherName => &mut counts.renamed,
                Verdict::KnownBad => &mut counts.known_bad,
                Verdict::Differs | Verdict::Covered | Verdict::SeeMembers => continue,
                Verdict::Unknown => &mut counts.unknown,
                Verdict::Open if is_file => &mut counts.open,
                Verdict::Open => continue,
            } += count;
        }
    }
    let damaged = "SELECT (SELECT count(*) FROM file WHERE gone IS NULL AND trouble > 0)
        + (SELECT count(*) FROM file WHERE gone IS NULL AND trouble = 0 AND verdict = 4)
        + (SELECT count(*) FROM member m JOIN file f ON f.id = m.file WHERE f.gone IS NULL AND (m.why IS NOT NULL OR m.verdict = 4))";
    counts.damaged = number(db, damaged, &[])?.unsigned_abs();
    counts.unknown -= number(db, "SELECT count(*) FROM file WHERE gone IS NULL AND trouble > 0 AND verdict = 5", &[])?
        .unsigned_abs()
        .min(counts.unknown);
    let missing =
        "SELECT sum(g.wanted - g.had - g.harmed) FROM game g JOIN dat d ON d.id = g.dat WHERE d.is_current = 1";
    counts.missing = number(db, missing, &[])?.unsigned_abs();
    counts.doubles = double_groups(db)?.iter().map(|group| group.len() as u64 - 1).sum();
    Ok(counts)
}

/// The sets that files are held against, by name.
///
/// # Errors
/// What the database fails with.
pub fn sets(db: &mut dyn Database) -> Result<Vec<SetRow>> {
    let sql = "SELECT d.name, d.version, d.games, d.complete, d.partial, d.absent,
            (SELECT coalesce(sum(g.wanted), 0) FROM game g WHERE g.dat = d.id),
            (SELECT coalesce(sum(g.had), 0) FROM game g WHERE g.dat = d.id), d.id
        FROM dat d WHERE d.is_current = 1 ORDER BY d.name";
    let mut sets = all(db, sql, &[], |row| {
        let count = |at: usize| row[at].unsigned();
        let set = SetRow {
            name: row[0].text(),
            version: row[1].text(),
            other_versions: Vec::new(),
            games: count(2),
            complete: count(3),
            partial: count(4),
            missing: count(5),
            not_dumped: count(2).saturating_sub(count(3) + count(4) + count(5)),
            entries: count(6),
            have: count(7),
            bytes: 0,
        };
        (row[8].int(), set)
    })?;
    let sql = "SELECT name, version FROM dat WHERE is_current = 0 ORDER BY id";
    for (name, version) in all(db, sql, &[], |row| (row[0].text(), row[1].text()))? {
        let others = sets.iter_mut().filter(|(_, set)| set.name == name);
        others.for_each(|(_, set)| set.other_versions.push(version.clone()));
    }
    // A file counts once for a set, however many of its entries it is.
    let sql = "SELECT dat, sum(size) FROM (SELECT DISTINCT e.dat AS dat, f.id, f.size AS size FROM hit h
            JOIN file f ON f.id = h.file JOIN entry e ON e.id = h.entry WHERE f.gone IS NULL AND h.verdict IN (1, 2, 3)) AS held
        GROUP BY dat";
    let bytes: HashMap<i64, u64> = all(db, sql, &[], |row| (row[0].int(), row[1].unsigned()))?.into_iter().collect();
    for (id, set) in &mut sets {
        set.bytes = bytes.get(id).copied().unwrap_or(0);
    }
    Ok(sets.into_iter().map(|(_, set)| set).collect())
}

fn digest_of(row: &[Value]) -> Option<String> {
    crate::files::sums(row).strongest().map(|d| format!("{}:{}", d.algorithm.id(), d.hex()))
}

/// The roots of the places, by their numbers.
fn roots(db: &mut dyn Database) -> Result<HashMap<i64, Place>> {
    Ok(Place::all(db)?.into_iter().map(|place| (place.id, place)).collect())
}

/// The whole path of a file, with the member if it is one.
fn whole(roots: &HashMap<i64, Place>, place: &Value, path: &Value, member: Option<String>) -> String {
    let path = roots.get(&place.int()).map_or_else(|| path.text(), |root| root.path(&path.text()));
    member.map_or_else(|| path.clone(), |inner| format!("{path}::{inner}"))
}

/// Entries of the sets that are not here.
///
/// # Errors
/// What the database fails with.
pub fn missing(db: &mut dyn Database, set: Set<'_>) -> Result<Vec<Row>> {
    // What is here is mostly far less than what there could be: it is held, and not asked for entry by entry.
    let sql = "SELECT DISTINCT h.entry FROM hit h JOIN file f ON f.id = h.file WHERE f.gone IS NULL";
    let here: HashSet<i64> = all(db, sql, &[], |row| row[0].int())?.into_iter().collect();
    let sql = "SELECT d.name, g.name, g.parent, e.name, e.size, e.crc32, e.md5, e.sha1, e.sha256, e.id
        FROM dat d JOIN game g ON g.dat = d.id JOIN entry e ON e.game = g.id
        WHERE d.is_current = 1 AND (?1 = '' OR d.name = ?1) AND e.status <> 2 AND g.had + g.harmed < g.wanted
        ORDER BY d.name, e.id";
    let mut rows = Vec::new();
    db.ask(sql, values![set.map_or("", |s| &s.name)], &mut |row| {
        if !here.contains(&row[9].int()) {
            rows.push(Row {
                set: Some(row[0].text()),
                game: Some(row[1].text()),
                parent: row[2].maybe_text(),
                name: Some(row[3].text()),
                bytes: row[4].maybe_int().map(|_| row[4].unsigned()),
                digest: digest_of(&row[5..9]),
                ..Row::default()
            });
        }
        Ok(())
    })?;
    Ok(rows)
}

/// Games of a set, each with what is there of it.
///
/// # Errors
/// What the database fails with.
pub fn games(db: &mut dyn Database, set: &SetRow) -> Result<Vec<Row>> {
    let sql = "SELECT g.name, g.parent, g.wanted, g.had, g.harmed FROM game g JOIN dat d ON d.id = g.dat
        WHERE d.is_current = 1 AND d.name = ?1 ORDER BY g.id";
    all(db, sql, values![set.name.as_str()], |row| {
        let (wanted, had, harmed) = (row[2].int(), row[3].int(), row[4].int());
        Row {
            set: Some(set.name.clone()),
            game: Some(row[0].text()),
            parent: row[1].maybe_text(),
            state: Some(match (wanted, had + harmed) {
                (0, _) => "not dumped",
                _ if had >= wanted => "complete",
                (_, 0) => "missing",
                _ => "partial",
            }),
            ..Row::default()
        }
    })
}

/// Names of entries, those that are here and those that are not: one line each for plain lists.
///
/// # Errors
/// What the database fails with.
pub fn entries(db: &mut dyn Database, set: Set<'_>, is_here: bool) -> Result<Vec<String>> {
    let sql = "SELECT e.name, EXISTS (SELECT 1 FROM hit h JOIN file f ON f.id = h.file
            WHERE h.entry = e.id AND f.gone IS NULL AND f.trouble = 0 AND h.verdict <> 4)
        FROM entry e JOIN dat d ON d.id = e.dat
        WHERE d.is_current = 1 AND (?1 = '' OR d.name = ?1) AND e.status <> 2 ORDER BY d.name, e.id";
    let all = all(db, sql, values![set.map_or("", |s| &s.name)], |row| (row[0].text(), row[1].int() != 0))?;
    Ok(all.into_iter().filter(|(_, here)| *here == is_here).map(|(name, _)| name).collect())
}

/// Files and members that no set knows.
///
/// # Errors
/// What the database fails with.
pub fn unknown(db: &mut dyn Database) -> Result<Vec<Row>> {
    let roots = roots(db)?;
    let sql = "SELECT f.place, f.path, NULL, f.size, f.kind, f.crc32, f.md5, f.sha1, f.sha256 FROM file f
            WHERE f.gone IS NULL AND f.verdict = 5 AND f.trouble = 0
        UNION ALL SELECT f.place, f.path, m.path, m.size, m.kind, m.crc32, m.md5, m.sha1, m.sha256
            FROM member m JOIN file f ON f.id = m.file WHERE f.gone IS NULL AND m.verdict = 5 AND m.why IS NULL
        ORDER BY 1, 2, 3";
    all(db, sql, &[], |row| Row {
        path: Some(whole(&roots, &row[0], &row[1], row[2].maybe_text())),
        bytes: Some(row[3].unsigned()),
        kind: row[4].maybe_text(),
        digest: digest_of(&row[5..9]),
        ..Row::default()
    })
}

/// Files and members that are damaged: for those of a set, only that.
///
/// # Errors
/// What the database fails with.
pub fn damaged(db: &mut dyn Database, set: Set<'_>) -> Result<Vec<Row>> {
    let roots = roots(db)?;
    let sql =
        "SELECT f.place, f.path, NULL, f.size, f.trouble, f.why, f.verdict, f.entry, f.sha1, f.id, f.kind FROM file f
            WHERE f.gone IS NULL AND (f.trouble > 0 OR f.verdict = 4)
        UNION ALL SELECT f.place, f.path, m.path, m.size, 0, m.why, m.verdict, m.entry, m.sha1, f.id, m.kind
            FROM member m JOIN file f ON f.id = m.file WHERE f.gone IS NULL AND (m.why IS NOT NULL OR m.verdict = 4)
        ORDER BY 1, 2, 3";
    let found = all(db, sql, &[], |row| {
        let trouble = Trouble::of(row[4].int());
        let why = row[5].maybe_text();
        let is_member = row[2].maybe_text().is_some();
        let differs = Verdict::of(row[6].int()) == Verdict::Differs;
        let damage = match trouble {
            // As `verify` says it: its checksum does not hold, or it is locked.
            Trouble::None if is_member && why.is_some() => "unreadable",
            Trouble::None => "differs",
            trouble => trouble.word(),
        };
        let found = Row {
            path: Some(whole(&roots, &row[0], &row[1], row[2].maybe_text())),
            bytes: Some(row[3].unsigned()),
            damage: Some(damage),
            why,
            kind: row[10].maybe_text(),
            ..Row::default()
        };
        // What it was before it changed is what a good copy has; what differs from a set is asked by its entry.
        let wanted = if differs && trouble == Trouble::None { None } else { row[8].blob().map(<[u8]>::to_vec) };
        (found, row[7].maybe_int(), wanted, row[9].int())
    })?;
    let mut rows = Vec::new();
    for (mut row, entry, wanted, file) in found {
        let mut wanted = wanted;
        if let Some(id) = entry {
            let sql = "SELECT d.name, g.name, e.name, e.size, e.sha1 FROM entry e JOIN game g ON g.id = e.game JOIN dat d ON d.id = e.dat WHERE e.id = ?1";
            if let Some(found) = first(db, sql, values![id])? {
                row.set = Some(found[0].text());
                row.game = Some(found[1].text());
                row.name = Some(found[2].text());
                let own = found[3].maybe_int().map(|_| found[3].unsigned());
                if row.why.is_none() && row.damage == Some("differs") {
                    row.why = Some(match own {
                        Some(own) if row.bytes != Some(own) => format!("it should have {own} bytes"),
                        _ => "the bytes are not those of the entry with this name".into(),
                    });
                }
                wanted = wanted.or_else(|| found[4].blob().map(<[u8]>::to_vec));
            }
        }
        if let Some(sha1) = wanted {
            row.good_copy = copies(db, &sha1, file)?.into_iter().next();
        }
        if set.is_none_or(|s| row.set.as_deref() == Some(&s.name)) {
            rows.push(row);
        }
    }
    Ok(rows)
}

/// Where there are other copies of some content, as far as the catalogue knows.
///
/// # Errors
/// What the database fails with.
pub fn copies(db: &mut dyn Database, sha1: &[u8], but: i64) -> Result<Vec<String>> {
    let roots = roots(db)?;
    let sql =
        "SELECT f.place, f.path, NULL FROM file f WHERE f.sha1 = ?1 AND f.gone IS NULL AND f.trouble = 0 AND f.id <> ?2
        UNION ALL SELECT f.place, f.path, m.path FROM member m JOIN file f ON f.id = m.file
            WHERE m.sha1 = ?1 AND f.gone IS NULL AND f.trouble = 0 AND m.why IS NULL AND f.id <> ?2 LIMIT 100";
    all(db, sql, values![Value::Blob(sha1.to_vec()), but], |row| whole(&roots, &row[0], &row[1], row[2].maybe_text()))
}

/// One of several with the same content.
struct Double {
    file: i64,
    member: i64,
    /// The content of the file that it is a member of.
    within: Vec<u8>,
}

/// Subjects of the same content, each group with at least two different files.
fn double_groups(db: &mut dyn Database) -> Result<Vec<Vec<Double>>> {
    let sql = "SELECT s.sha1, s.file, s.member, s.within FROM (
            SELECT sha1, id AS file, 0 AS member, sha1 AS within FROM file WHERE gone IS NULL AND size > 0 AND sha1 IS NOT NULL
            UNION ALL SELECT m.sha1, m.file, m.id, f.sha1 FROM member m JOIN file f ON f.id = m.file
                WHERE f.gone IS NULL AND m.size > 0 AND m.sha1 IS NOT NULL AND m.role = 0) AS s
        ORDER BY s.sha1, s.member, s.file";
    let mut groups = Vec::new();
    let mut now: (Vec<u8>, Vec<Double>) = Default::default();
    let mut close = |group: Vec<Double>| {
        let several_files = group.iter().any(|d| d.file != group[0].file);
        // Members of archives that are doubles themselves are told with these.
        let same_archive = group.iter().all(|d| d.member != 0 && d.within == group[0].within);
        if group.len() > 1 && several_files && !same_archive {
            groups.push(group);
        }
    };
    db.ask(sql, &[], &mut |row| {
        let sha1 = row[0].blob().unwrap_or_default();
        let one = Double {
            file: row[1].int(),
            member: row[2].int(),
            within: if row[2].int() == 0 { Vec::new() } else { row[3].blob().unwrap_or_default().to_vec() },
        };
        if now.0 != sha1 {
            let done = std::mem::replace(&mut now, (sha1.to_vec(), Vec::new()));
            if !done.1.is_empty() {
                close(done.1);
            }
        }
        now.1.push(one);
        Ok(())
    })?;
    if !now.1.is_empty() {
        close(now.1);
    }
    Ok(groups)
}

/// Files and members of which there are several.
///
/// # Errors
/// What the database fails with.
pub fn doubles(db: &mut dyn Database) -> Result<Vec<Row>> {
    let roots = roots(db)?;
    let mut groups: BTreeMap<String, Vec<Row>> = BTreeMap::new();
    for group in double_groups(db)? {
        let mut rows = Vec::new();
        for one in group {
            let (sql, id) = match one.member {
                0 => ("SELECT place, path, NULL, size, sha1, kind FROM file WHERE id = ?1", one.file),
                id => (
                    "SELECT f.place, f.path, m.path, m.size, m.sha1, m.kind FROM member m JOIN file f ON f.id = m.file WHERE m.id = ?1",
                    id,
                ),
            };
            if let Some(row) = first(db, sql, values![id])? {
                rows.push(Row {
                    path: Some(whole(&roots, &row[0], &row[1], row[2].maybe_text())),
                    bytes: Some(row[3].unsigned()),
                    digest: row[4].blob().map(|b| format!("sha1:{}", hex(b))),
                    kind: row[5].maybe_text(),
                    ..Row::default()
                });
            }
        }
        rows.sort_by(|a, b| a.path.cmp(&b.path));
        if let Some(path) = rows.first().and_then(|row| row.path.clone()) {
            groups.insert(path, rows);
        }
    }
    let number = |(group, rows): (usize, Vec<Row>)| {
        rows.into_iter().map(move |row| Row { group: Some(group as u64 + 1), ..row })
    };
    Ok(groups.into_values().enumerate().flat_map(number).collect())
}
