//! The catalogue on a server that many machines share: PostgreSQL. The statements are those of the embedded one; names whose
//! bytes are no text stand in the reversible spelling of [`decanter_core::native`].

use crate::Value;
use crate::database::{Database, Each};
use decanter_core::address::plain;
use decanter_core::{Error, Result};
use postgres::config::SslMode;
use postgres::error::SqlState;
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::private::BytesMut;
use postgres::types::{FromSql, IsNull, ToSql, Type};
use postgres::{Client, Config, NoTls, Statement};
use rustls_platform_verifier::BuilderVerifierExt;
use std::collections::HashMap;
use std::error::Error as StdError;
use std::io::ErrorKind;
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;
use tokio_postgres_rustls::MakeRustlsConnect;

/// How long a server may take to be reached.
const REACH: Duration = Duration::from_secs(10);
/// How long a connection waits for others that write.
const PATIENCE: Duration = Duration::from_secs(60);
/// How long one waits, for either, that must not hold its job up.
const SHORT_PATIENCE: Duration = Duration::from_secs(3);
/// Whoever writes holds this lock of the database until the end of the transaction: one writes, many read.
const WRITER: &str = "SELECT pg_advisory_xact_lock(7238432581)";
/// Statements that are kept ready.
const STATEMENTS: usize = 128;

/// A connection to the server.
pub struct Postgres {
    client: Client,
    statements: HashMap<String, Statement>,
    address: String,
}

/// What is asked for, taken apart.
fn config(address: &str) -> Result<Config> {
    Config::from_str(address)
        .map_err(|e| Error::Usage(format!("\"{}\" is no address of a server: {}", plain(address), innermost(&e))))
}

/// Fails for what is no address of a server.
///
/// # Errors
/// [`Error::Usage`].
pub fn check_address(address: &str) -> Result<()> {
    config(address).map(|_| ())
}

/// How the line to a server is made: encrypted where its address asks for that, `sslmode=require`. Certificates are those that
/// this machine trusts.
type Line = Option<MakeRustlsConnect>;

fn line(config: &Config) -> std::result::Result<Line, rustls::Error> {
    if config.get_ssl_mode() != SslMode::Require {
        return Ok(None);
    }
    let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
    let builder = rustls::ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions()?;
    Ok(Some(MakeRustlsConnect::new(builder.with_platform_verifier()?.with_no_client_auth())))
}

fn connect(config: &Config, line: &Line) -> std::result::Result<Client, postgres::Error> {
    match line {
        Some(encrypted) => config.connect(encrypted.clone()),
        None => config.clone().ssl_mode(SslMode::Disable).connect(NoTls),
    }
}

impl Postgres {
    /// Connects. One that `is_new` makes the database if the server has none of that name.
    ///
    /// # Errors
    /// [`Error::Io`] when the server cannot be reached or has no such database, [`Error::Refused`] when it refuses the user,
    /// [`Error::Unsupported`] for a database whose text is no UTF-8.
    pub fn open(address: &str, is_new: bool, is_hurried: bool) -> Result<Self> {
        let mut config = config(address)?;
        if config.get_password().is_none()
            && let Some(password) = std::env::var_os("PGPASSWORD")
        {
            config.password(password.as_encoded_bytes());
        }
        let patience = if is_hurried { SHORT_PATIENCE } else { PATIENCE };
        config.connect_timeout(if is_hurried { SHORT_PATIENCE } else { REACH }).application_name("decanter");
        let failed = |e| told(address, &e);
        let no_line = |e: rustls::Error| Error::io("use", Path::new(&plain(address)), std::io::Error::other(e));
        let line = line(&config).map_err(no_line)?;
        let client = match connect(&config, &line) {
            Err(e) if is_new && e.code() == Some(&SqlState::INVALID_CATALOG_NAME) => {
                make_database(&config, &line).map_err(failed)?;
                connect(&config, &line)
            }
            client => client,
        };
        let mut open =
            Self { client: client.map_err(failed)?, statements: HashMap::new(), address: address.to_owned() };
        let encoding = open.client.query_one("SHOW server_encoding", &[]).map_err(failed)?;
        if encoding.get::<_, &str>(0) != "UTF8" {
            return Err(Error::unsupported(
                "cellar",
                "a database whose text is no UTF-8: make one with ENCODING 'UTF8', it",
            ));
        }
        let settings = format!("SET lock_timeout = {}; SET client_min_messages = error", patience.as_millis());
        open.client.batch_execute(&settings).map_err(failed)?;
        Ok(open)
    }

    /// Whether there is such a database.
    ///
    /// # Errors
    /// As [`Postgres::open`], but for that.
    pub fn open_if_there(address: &str, is_hurried: bool) -> Result<Option<Self>> {
        match Self::open(address, false, is_hurried) {
            Err(Error::Io { source, .. }) if source.kind() == ErrorKind::NotFound => Ok(None),
            opened => opened.map(Some),
        }
    }

    fn statement(&mut self, sql: &str) -> Result<Statement> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let prepared = self.client.prepare(&sql.replace('?', "$")).map_err(|e| told(&self.address, &e))?;
        if self.statements.len() >= STATEMENTS {
            self.statements.clear();
        }
        self.statements.insert(sql.to_owned(), prepared.clone());
        Ok(prepared)
    }
}

/// Makes the database that a configuration names, out of the one that every server has.
fn make_database(config: &Config, line: &Line) -> std::result::Result<(), postgres::Error> {
    let name = config.get_dbname().or(config.get_user()).unwrap_or_default().replace('"', "\"\"");
    let mut client = connect(config.clone().dbname("postgres"), line)?;
    client.batch_execute(&format!("CREATE DATABASE \"{name}\" ENCODING 'UTF8' TEMPLATE template0"))
}

/// The first cause, which says most.
fn innermost(error: &(dyn StdError + 'static)) -> String {
    let mut at = error;
    while let Some(next) = at.source() {
        at = next;
    }
    at.to_string()
}

/// What the server says, by who is to blame.
fn told(address: &str, error: &postgres::Error) -> Error {
    let shown = plain(address);
    let path = Path::new(&shown);
    let io = |op, kind, why: String| Error::io(op, path, std::io::Error::new(kind, why));
    let Some(code) = error.code() else {
        // Not an answer of the server: the line to it.
        return match error.is_closed() {
            true => io("use", ErrorKind::ConnectionAborted, "the server has closed the connection".into()),
            false => io("use", ErrorKind::Other, innermost(error)),
        };
    };
    let says = error.as_db_error().map(|e| e.message().to_owned()).unwrap_or_default();
    match *code {
        SqlState::INVALID_CATALOG_NAME => io("open", ErrorKind::NotFound, format!("the server says: {says}")),
        SqlState::INVALID_PASSWORD
        | SqlState::INVALID_AUTHORIZATION_SPECIFICATION
        | SqlState::INSUFFICIENT_PRIVILEGE => Error::Refused { what: format!("the server refuses {shown}: {says}") },
        SqlState::LOCK_NOT_AVAILABLE => {
            io("use", ErrorKind::Other, "another program has been writing to it for too long".into())
        }
        SqlState::DISK_FULL | SqlState::OUT_OF_MEMORY => io("write", ErrorKind::StorageFull, says),
        SqlState::READ_ONLY_SQL_TRANSACTION => io("write", ErrorKind::PermissionDenied, says),
        SqlState::ADMIN_SHUTDOWN | SqlState::CRASH_SHUTDOWN | SqlState::CANNOT_CONNECT_NOW => {
            io("use", ErrorKind::ConnectionAborted, says)
        }
        _ => Error::Unreadable { why: format!("{shown} does not hold what a catalogue holds: {says}") },
    }
}

impl ToSql for Value {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> std::result::Result<IsNull, Box<dyn StdError + Sync + Send>> {
        // What no text of this database can hold; it stands in no name that is one.
        let text = |text: &str, out: &mut BytesMut| match text.contains('\0') {
            true => text.replace('\0', "\u{fffd}").to_sql(&Type::TEXT, out),
            false => text.to_sql(&Type::TEXT, out),
        };
        match self {
            Self::Null => Ok(IsNull::Yes),
            Self::Int(value) if *ty == Type::INT4 => i32::try_from(*value)?.to_sql(ty, out),
            Self::Int(value) => value.to_sql(&Type::INT8, out),
            Self::Text(value) | Self::Name(value) => text(value, out),
            Self::Blob(bytes) => bytes.to_sql(&Type::BYTEA, out),
        }
    }

    fn accepts(ty: &Type) -> bool {
        matches!(*ty, Type::INT8 | Type::INT4 | Type::TEXT | Type::VARCHAR | Type::BYTEA | Type::UNKNOWN)
    }

    postgres::types::to_sql_checked!();
}

impl<'a> FromSql<'a> for Value {
    fn from_sql(ty: &Type, raw: &'a [u8]) -> std::result::Result<Self, Box<dyn StdError + Sync + Send>> {
        Ok(match *ty {
            Type::INT8 => Self::Int(i64::from_sql(ty, raw)?),
            Type::INT4 => Self::Int(i32::from_sql(ty, raw)?.into()),
            Type::BOOL => Self::Int(bool::from_sql(ty, raw)?.into()),
            Type::NUMERIC => Self::Int(whole(raw).ok_or("a sum that is no whole number")?),
            Type::BYTEA => Self::Blob(raw.to_vec()),
            _ => Self::Text(String::from_sql(&Type::TEXT, raw)?),
        })
    }

    fn from_sql_null(_: &Type) -> std::result::Result<Self, Box<dyn StdError + Sync + Send>> {
        Ok(Self::Null)
    }

    fn accepts(ty: &Type) -> bool {
        <Self as ToSql>::accepts(ty) || matches!(*ty, Type::BOOL | Type::NUMERIC | Type::NAME)
    }
}

/// A sum as the server sends it, big-endian: the count of digits to the base 10,000, the power of the first, the sign, the
/// digits behind the point, and the digits. Source: PostgreSQL, numeric_send.
fn whole(raw: &[u8]) -> Option<i64> {
    let word = |at: usize| Some(u16::from_be_bytes(raw.get(at * 2..at * 2 + 2)?.try_into().ok()?));
    let (count, weight) = (usize::from(word(0)?), i32::from(word(1)?.cast_signed()));
    let mut sum = 0i64;
    for power in 0..=weight {
        let digit = if (power as usize) < count { i64::from(word(4 + power as usize)?) } else { 0 };
        sum = sum.checked_mul(10_000)?.checked_add(digit)?;
    }
    match word(2)? {
        0 => Some(sum),
        0x4000 => Some(-sum),
        _ => None,
    }
}

/// A script as this database understands it.
fn dialect(script: &str) -> String {
    let mut text = script
        .replace("INTEGER PRIMARY KEY", "BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY")
        .replace("INTEGER", "BIGINT")
        .replace("BLOB", "BYTEA")
        // In the order of their bytes, as everywhere.
        .replace("TEXT", "TEXT COLLATE \"C\"");
    // As in the embedded one: what belongs together is written together.
    while let Some(at) = text.find(" REFERENCES ") {
        let end = text[at + 12..].find([',', '\n', ' ', ')']).map_or(text.len(), |len| at + 12 + len);
        text.replace_range(at..end, "");
    }
    text
}

impl Database for Postgres {
    fn run(&mut self, sql: &str, values: &[Value]) -> Result<usize> {
        let statement = self.statement(sql)?;
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|v| v as &(dyn ToSql + Sync)).collect();
        let changed = self.client.execute(&statement, &values).map_err(|e| told(&self.address, &e))?;
        Ok(changed as usize)
    }

    fn insert(&mut self, sql: &str, values: &[Value]) -> Result<i64> {
        let mut id = 0;
        self.ask(&format!("{sql} RETURNING id"), values, &mut |row| {
            id = row[0].int();
            Ok(())
        })?;
        Ok(id)
    }

    fn ask(&mut self, sql: &str, values: &[Value], each: Each<'_>) -> Result<()> {
        let statement = self.statement(sql)?;
        let failed = |e| told(&self.address, &e);
        let mut rows = self.client.query_raw(&statement, values).map_err(failed)?;
        let mut read = Vec::new();
        while let Some(row) = rows.next().map_err(failed)? {
            read.clear();
            for column in 0..row.len() {
                read.push(row.try_get(column).map_err(failed)?);
            }
            each(&read)?;
        }
        Ok(())
    }

    fn script(&mut self, sql: &str) -> Result<()> {
        self.client.batch_execute(&dialect(sql)).map_err(|e| told(&self.address, &e))
    }

    fn widen(&mut self) -> Result<()> {
        self.script("SET work_mem = '128MB'; SET maintenance_work_mem = '256MB'")
    }

    fn begin(&mut self) -> Result<()> {
        self.script("BEGIN")?;
        self.script(WRITER).inspect_err(|_| {
            // The first error says why.
            let _ = self.script("ROLLBACK");
        })
    }

    fn commit(&mut self) -> Result<()> {
        self.script("COMMIT")
    }

    fn undo(&mut self) -> Result<()> {
        self.script("ROLLBACK")
    }

    fn version(&mut self) -> Result<i64> {
        let is_there = "SELECT to_regclass('catalogue_version') IS NOT NULL";
        match crate::database::number(self, is_there, &[])? {
            0 => Ok(0),
            _ => crate::database::number(self, "SELECT version FROM catalogue_version", &[]),
        }
    }

    fn set_version(&mut self, version: i64) -> Result<()> {
        self.script(&format!(
            "CREATE TABLE IF NOT EXISTS catalogue_version (version INTEGER NOT NULL);
             DELETE FROM catalogue_version; INSERT INTO catalogue_version VALUES ({version})"
        ))
    }

    fn clock(&self) -> &'static str {
        "CAST(extract(epoch FROM clock_timestamp()) * 1000 AS BIGINT)"
    }

    fn passing_locked(&self) -> &'static str {
        "FOR UPDATE SKIP LOCKED"
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_are_read_as_the_server_sends_them() {
        // 1,234,567,890 is 12 * 10^8 + 3456 * 10^4 + 7890; trailing digits of zero are not sent.
        assert_eq!(whole(&[0, 3, 0, 2, 0, 0, 0, 0, 0, 12, 0x0d, 0x80, 0x1e, 0xd2]), Some(1_234_567_890));
        assert_eq!(whole(&[0, 1, 0, 1, 0, 0, 0, 0, 0, 5]), Some(50_000));
        assert_eq!(whole(&[0, 1, 0, 0, 0x40, 0, 0, 0, 0, 5]), Some(-5));
        assert_eq!(whole(&[0, 0, 0, 0, 0, 0, 0, 0]), Some(0));
        assert_eq!(whole(&[0, 0, 0, 0, 0xc0, 0, 0, 0]), None, "not a number");
        assert_eq!(whole(&[0, 2, 0, 1, 0, 0, 0, 0, 0, 5]), None, "cut short");
    }

    #[test]
    fn the_schema_is_spelled_as_the_server_takes_it() {
        let script =
            "CREATE TABLE a (id INTEGER PRIMARY KEY, b INTEGER NOT NULL REFERENCES c, d BLOB, e TEXT NOT NULL);";
        let expected = "CREATE TABLE a (id BIGINT GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, b BIGINT NOT NULL, d BYTEA, e TEXT COLLATE \"C\" NOT NULL);";
        assert_eq!(dialect(script), expected);
    }
}
