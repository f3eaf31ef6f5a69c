//! What was done: jobs with what went in and what came out.

use crate::database::{Database, all};
use crate::{Value, values};
use decanter_core::Result;

/// A file that a job read or wrote.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct JobFile {
    /// Whether it was written.
    pub is_output: bool,
    /// Its absolute path.
    pub path: String,
    /// Length in bytes.
    pub size: u64,
    /// Nanoseconds since 1970.
    pub modified: Option<i64>,
    /// Its SHA-1, where it is known.
    pub sha1: Option<Vec<u8>>,
    /// Its SHA-256, where it is known.
    pub sha256: Option<Vec<u8>>,
}

/// A job that was done.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Job {
    /// Its number.
    pub id: i64,
    /// What was asked for, in a word or two.
    pub command: String,
    /// JSON: the arguments, without keys.
    pub parameters: String,
    /// The program's version.
    pub version: String,
    /// When it began.
    pub began: i64,
    /// When it ended.
    pub ended: i64,
    /// The exit code.
    pub result: i64,
    /// What went in and out.
    pub files: Vec<JobFile>,
}

impl Job {
    /// Keeps it; returns its number.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn keep(&self, db: &mut dyn Database) -> Result<i64> {
        let id = db.insert(
            "INSERT INTO job (command, parameters, version, began, ended, result) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            values![
                self.command.as_str(),
                self.parameters.as_str(),
                self.version.as_str(),
                self.began,
                self.ended,
                self.result
            ],
        )?;
        let blob = |bytes: &Option<Vec<u8>>| bytes.clone().map_or(Value::Null, Value::Blob);
        for file in &self.files {
            db.run(
                "INSERT INTO job_file (job, is_output, path, size, modified, sha1, sha256) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
                values![
                    id,
                    i64::from(file.is_output),
                    Value::Name(file.path.clone()),
                    Value::len(file.size),
                    Value::number(file.modified),
                    blob(&file.sha1),
                    blob(&file.sha256),
                ],
            )?;
        }
        Ok(id)
    }

    /// The job of this number.
    fn get(db: &mut dyn Database, id: i64) -> Result<Option<Self>> {
        let sql = "SELECT id, command, parameters, version, began, ended, result FROM job WHERE id = ?1";
        let jobs = all(db, sql, values![id], |row| Self {
            id: row[0].int(),
            command: row[1].text(),
            parameters: row[2].text(),
            version: row[3].text(),
            began: row[4].int(),
            ended: row[5].int(),
            result: row[6].int(),
            files: Vec::new(),
        })?;
        let Some(mut job) = jobs.into_iter().next() else { return Ok(None) };
        let sql = "SELECT is_output, path, size, modified, sha1, sha256 FROM job_file WHERE job = ?1 ORDER BY is_output, path";
        job.files = all(db, sql, values![id], |row| JobFile {
            is_output: row[0].int() != 0,
            path: row[1].text(),
            size: row[2].unsigned(),
            modified: row[3].maybe_int(),
            sha1: row[4].blob().map(<[u8]>::to_vec),
            sha256: row[5].blob().map(<[u8]>::to_vec),
        })?;
        Ok(Some(job))
    }

    /// The jobs that wrote a file: of this path, or with these bytes wherever they are now; the last one first.
    ///
    /// # Errors
    /// What the database fails with.
    pub fn that_wrote(db: &mut dyn Database, file: &JobFile) -> Result<Vec<Self>> {
        let blob = |bytes: &Option<Vec<u8>>| bytes.clone().map_or(Value::Blob(Vec::new()), Value::Blob);
        // A job that was done after this very file was used made a copy of it, not it.
        let sql = "SELECT DISTINCT job FROM job_file o WHERE is_output = 1 AND (path = ?1 OR (sha1 = ?2 OR sha256 = ?3)
                AND NOT EXISTS (SELECT 1 FROM job_file i WHERE i.is_output = 0 AND i.path = ?1 AND i.sha1 = o.sha1 AND i.job <= o.job))
            ORDER BY job DESC";
        let name = Value::Name(file.path.clone());
        let ids = all(db, sql, values![name, blob(&file.sha1), blob(&file.sha256)], |row| row[0].int())?;
        let mut jobs = Vec::new();
        for id in ids {
            jobs.extend(Self::get(db, id)?);
        }
        Ok(jobs)
    }
}
