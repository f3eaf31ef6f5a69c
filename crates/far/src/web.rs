//! Files behind `http://` and `https://` addresses (RFC 9110, section 14: range requests).

use crate::bucket::changed;
use crate::index;
use crate::object::{Object, Ranges};
use crate::wait::{innermost, runtime, stopped};
use decanter_core::address::plain;
use decanter_core::source::SourceRef;
use decanter_core::store::{Listed, Met, MetKind, Store};
use decanter_core::{Error, Result, watch};
use reqwest::header::{
    ACCEPT_ENCODING, CONTENT_LENGTH, CONTENT_RANGE, CONTENT_TYPE, ETAG, HeaderMap, IF_MATCH, LAST_MODIFIED, RANGE,
};
use reqwest::{Client, Response, StatusCode, Url};
use std::io::ErrorKind;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;

/// Bytes that the first request asks for: most of what is asked of a file stands there.
const BEGINNING: u64 = 64 << 10;
/// How long a server may take to be reached, and to send anything at all.
const SILENCE: Duration = Duration::from_secs(10);
/// The first wait after a failure; twice as long after each.
const FIRST_WAIT: Duration = Duration::from_millis(100);
/// The longest wait.
const LONGEST_WAIT: Duration = Duration::from_secs(3);
/// Requests at the same time.
const AT_ONCE: usize = 8;
/// The longest page that lists a folder.
const MOST_PAGE: usize = 64 << 20;
/// Folders in folders.
const MOST_DEEP: usize = 64;

/// The web, as a store of files. Nothing is set up before the first address.
pub struct Web {
    patience: Duration,
    line: OnceLock<std::result::Result<Arc<Line>, String>>,
}

/// What requests are made with.
struct Line {
    runtime: Runtime,
    client: Client,
    patience: Duration,
}

impl Web {
    /// One that gives up on a server that has failed for `patience`.
    pub fn new(patience: Duration) -> Self {
        Self { patience, line: OnceLock::new() }
    }

    /// What a page links to below itself, folder by folder.
    fn go_through(&self, folder: &str, root: &str, depth: usize, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        let line = self.line()?;
        let why = "the server shows no page of what is in it";
        let none = || failed(folder, 0, ErrorKind::NotADirectory, why.to_owned());
        let (base, page) = line.page(folder)?.ok_or_else(none)?;
        let names: Vec<String> = index::names(&page, &base).into_iter().collect();
        for some in names.chunks(AT_ONCE) {
            // What is said of files is asked of several at once.
            let listed: Vec<Result<Option<Listed>>> = std::thread::scope(|scope| {
                let ask = |name: &String| {
                    let path = format!("{folder}{name}");
                    scope.spawn(move || if path.ends_with('/') { Ok(None) } else { self.listed(&path) })
                };
                let threads: Vec<_> = some.iter().map(ask).collect();
                let lost = |_| Err(Error::Usage("an asking thread ended early".into()));
                threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
            });
            for (name, listed) in some.iter().zip(listed) {
                let whole = format!("{folder}{name}");
                let path = whole.trim_end_matches('/').to_owned();
                let below = path[root.len()..].trim_start_matches('/').to_owned();
                let is_folder = name.ends_with('/');
                let (kind, listed) = match listed {
                    _ if is_folder && depth >= MOST_DEEP => {
                        let (what, limit) = ("the depth of folders at a server", MOST_DEEP as u64);
                        (MetKind::Closed(Error::Limit { what, asked: limit + 1, limit }), None)
                    }
                    _ if is_folder => (MetKind::Folder, None),
                    Err(Error::Cancelled) => return Err(Error::Cancelled),
                    Err(e) => (MetKind::Closed(e), None),
                    // A link to what is not there is none.
                    Ok(None) => continue,
                    Ok(listed) => (MetKind::File, listed),
                };
                let goes_on = matches!(kind, MetKind::Folder);
                met(Met { path, below, kind, listed })?;
                if goes_on {
                    self.go_through(&whole, root, depth + 1, met)?;
                }
            }
        }
        Ok(())
    }

    fn line(&self) -> Result<Arc<Line>> {
        let line = self.line.get_or_init(|| Line::new(self.patience).map(Arc::new));
        line.clone().map_err(|why| Error::io("use", Path::new("the network"), std::io::Error::other(why)))
    }
}

impl Store for Web {
    fn has(&self, path: &str) -> bool {
        ["https://", "http://"].iter().any(|scheme| path.starts_with(scheme))
    }

    fn is_folder(&self, path: &str) -> Result<bool> {
        // What ends with a slash is a folder if the server shows a page of what is in it.
        if path.ends_with('/') {
            return Ok(self.line()?.page(path)?.is_some());
        }
        // An address of something inside a file is none of a file, unless the server has such a name.
        match path.contains("::") && self.listed(path)?.is_none() {
            true => Err(Error::io("open", Path::new(&plain(path)), ErrorKind::NotFound.into())),
            false => Ok(false),
        }
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        let line = self.line()?;
        let beginning = 0..BEGINNING;
        let first = line.get(path, &beginning, None)?;
        let known = Known { len: first.len, tag: first.tag, modified: first.modified };
        let len = known.len;
        let ranges = Remote { line, address: path.to_owned(), known };
        Ok(Arc::new(Object::new(len, Arc::new(ranges), first.bytes)))
    }

    fn names(&self, _: &str, _: usize) -> Vec<String> {
        // Asking for the page around a file would be a request for each: what lies beside it is named.
        Vec::new()
    }

    fn walk(&self, folder: &str, met: &mut dyn FnMut(Met) -> Result<()>) -> Result<()> {
        let root = folder.trim_end_matches('/');
        self.go_through(&format!("{root}/"), root, 0, met)
    }

    fn listed(&self, path: &str) -> Result<Option<Listed>> {
        match self.line()?.get(path, &(0..1), None) {
            Ok(first) => Ok(Some(Listed { len: first.len, modified: 0, tag: first.tag.or(first.modified) })),
            Err(Error::Io { source, .. }) if source.kind() == ErrorKind::NotFound => Ok(None),
            Err(e) => Err(e),
        }
    }

    fn local(&self, _: &str) -> Option<PathBuf> {
        None
    }
}

/// What is known of a file since it was opened: all later answers have to say the same.
struct Known {
    len: u64,
    tag: Option<String>,
    modified: Option<String>,
}

/// A file behind an address.
struct Remote {
    line: Arc<Line>,
    address: String,
    known: Known,
}

impl Ranges for Remote {
    fn fetch(&self, ranges: &[Range<u64>]) -> Result<Vec<Vec<u8>>> {
        let mut all = Vec::with_capacity(ranges.len());
        for some in ranges.chunks(AT_ONCE) {
            let answers: Vec<Result<Answer>> = match some {
                [one] => vec![self.line.get(&self.address, one, Some(&self.known))],
                some => std::thread::scope(|scope| {
                    let get = |range| scope.spawn(move || self.line.get(&self.address, range, Some(&self.known)));
                    let threads: Vec<_> = some.iter().map(get).collect();
                    let lost = |_| Err(Error::Usage("a fetching thread ended early".into()));
                    threads.into_iter().map(|thread| thread.join().unwrap_or_else(lost)).collect()
                }),
            };
            for answer in answers {
                all.push(answer?.bytes);
            }
        }
        Ok(all)
    }
}

/// An answer to a request for a range.
struct Answer {
    bytes: Vec<u8>,
    len: u64,
    tag: Option<String>,
    modified: Option<String>,
}

/// Why an answer is none.
enum Refusal {
    /// It may be another one in a moment.
    ForNow(String),
    /// It stays so.
    ForGood(Error),
}

impl Line {
    fn new(patience: Duration) -> std::result::Result<Self, String> {
        let runtime = runtime()?;
        let client = Client::builder()
            .user_agent(concat!("decanter/", env!("CARGO_PKG_VERSION")))
            .connect_timeout(SILENCE.min(patience))
            .read_timeout(SILENCE.min(patience))
            .build()
            .map_err(|e| e.to_string())?;
        Ok(Self { runtime, client, patience })
    }

    /// A range, asked for until it is there, the server refuses it for good, or patience ends.
    fn get(&self, address: &str, range: &Range<u64>, known: Option<&Known>) -> Result<Answer> {
        self.insist(address, range.start, async || self.ask(address, range, known).await)
    }

    /// A page of what is in a folder, and the address that it has in the end; `None` if the server shows none.
    fn page(&self, address: &str) -> Result<Option<(Url, String)>> {
        self.insist(address, 0, async || {
            let mut response = self.client.get(address).send().await.map_err(|e| unsent(address, &e))?;
            if response.status() == StatusCode::NOT_FOUND {
                return Ok(None);
            }
            refusal(address, 0, response.status()).map_or(Ok(()), Err)?;
            let kind = response.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
            if response.status() != StatusCode::OK || !kind.starts_with("text/html") {
                return Ok(None);
            }
            let url = response.url().clone();
            let mut bytes = Vec::new();
            while let Some(chunk) =
                response.chunk().await.map_err(|_| Refusal::ForNow("the connection was cut".into()))?
            {
                bytes.extend_from_slice(&chunk);
                if bytes.len() > MOST_PAGE {
                    let (asked, limit) = (bytes.len() as u64, MOST_PAGE as u64);
                    return Err(Refusal::ForGood(Error::Limit { what: "a page that lists a folder", asked, limit }));
                }
            }
            Ok(Some((url, String::from_utf8_lossy(&bytes).into_owned())))
        })
    }

    /// Asks until there is an answer, the server refuses for good, or patience ends.
    fn insist<T>(
        &self,
        address: &str,
        offset: u64,
        ask: impl AsyncFn() -> std::result::Result<T, Refusal>,
    ) -> Result<T> {
        let began = Instant::now();
        let mut wait = FIRST_WAIT;
        loop {
            watch::going_on()?;
            let left = self.patience.saturating_sub(began.elapsed()).max(FIRST_WAIT);
            let asked = self.runtime.block_on(async {
                tokio::select! {
                    answer = ask() => answer,
                    () = tokio::time::sleep(left) => Err(Refusal::ForNow("the server sends nothing".into())),
                    () = stopped() => Err(Refusal::ForGood(Error::Cancelled)),
                }
            });
            match asked {
                Ok(answer) => return Ok(answer),
                Err(Refusal::ForGood(error)) => return Err(error),
                Err(Refusal::ForNow(why)) if began.elapsed() + wait >= self.patience => {
                    let why = format!("given up after {} s: {why}", began.elapsed().as_secs().max(1));
                    return Err(failed(address, offset, ErrorKind::TimedOut, why));
                }
                Err(Refusal::ForNow(_)) => {
                    std::thread::sleep(wait);
                    wait = (wait * 2).min(LONGEST_WAIT);
                }
            }
        }
    }

    async fn ask(
        &self,
        address: &str,
        range: &Range<u64>,
        known: Option<&Known>,
    ) -> std::result::Result<Answer, Refusal> {
        let mut request = self.client.get(address).header(ACCEPT_ENCODING, "identity");
        request = request.header(RANGE, format!("bytes={}-{}", range.start, range.end - 1));
        // A weak tag says nothing of single bytes, and no server compares it for a range.
        if let Some(tag) = known.and_then(|k| k.tag.as_ref()).filter(|tag| !tag.starts_with("W/")) {
            request = request.header(IF_MATCH, tag);
        }
        let response = request.send().await.map_err(|e| unsent(address, &e))?;
        let head = check(address, range, known, &response)?;
        let expected = (range.end.min(head.len) - range.start.min(head.len)) as usize;
        let mut bytes = Vec::with_capacity(expected);
        let mut response = response;
        while let Some(chunk) = response.chunk().await.map_err(|_| Refusal::ForNow("the connection was cut".into()))? {
            bytes.extend_from_slice(&chunk);
            if bytes.len() > expected {
                let why = format!("the server sends more than the {expected} bytes that it was asked for");
                return Err(Refusal::ForGood(Error::Unreadable { why }));
            }
        }
        match bytes.len() == expected {
            true => Ok(Answer { bytes, ..head }),
            false => Err(Refusal::ForNow("the connection was cut".into())),
        }
    }
}

/// Why a request did not come to an answer.
fn unsent(address: &str, error: &reqwest::Error) -> Refusal {
    if error.is_builder() || error.is_redirect() {
        let why = format!("{} is no address that can be asked: {}", plain(address), innermost(error));
        return Refusal::ForGood(Error::Usage(why));
    }
    Refusal::ForNow(innermost(error))
}

/// Holds the head of an answer against what was asked for, and what is known.
fn check(
    address: &str,
    range: &Range<u64>,
    known: Option<&Known>,
    response: &Response,
) -> std::result::Result<Answer, Refusal> {
    let status = response.status();
    let text = |headers: &HeaderMap, name| headers.get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let headers = response.headers();
    let (tag, modified) = (text(headers, ETAG), text(headers, LAST_MODIFIED));
    let for_good = |error| Err(Refusal::ForGood(error));
    let total = text(headers, CONTENT_RANGE).and_then(|value| parse_range(&value));
    let len = match status {
        StatusCode::PARTIAL_CONTENT => match total {
            Some((Some(sent), len)) if sent.start == range.start && sent.end == range.end.min(len) => len,
            _ => {
                let why = "the server sends another range than it was asked for".to_owned();
                return for_good(Error::Unreadable { why });
            }
        },
        // Nothing stands behind the end of an empty file.
        StatusCode::RANGE_NOT_SATISFIABLE if range.start == 0 && total == Some((None, 0)) => 0,
        // Servers send an empty file as a whole, whatever range they are asked for.
        StatusCode::OK if range.start == 0 && text(headers, CONTENT_LENGTH).is_some_and(|len| len == "0") => 0,
        StatusCode::OK => {
            let what =
                "reading parts of a file from a server that sends it as a whole: fetch it first, reading it here";
            return for_good(Error::unsupported("http", what));
        }
        StatusCode::PRECONDITION_FAILED => return for_good(changed()),
        status => {
            let odd = || {
                let why = format!("the server answers {status}");
                Refusal::ForGood(failed(address, range.start, ErrorKind::Other, why))
            };
            return Err(refusal(address, range.start, status).unwrap_or_else(odd));
        }
    };
    let is_other = |known: &Known| {
        known.len != len
            || known.tag.is_some() && known.tag != tag
            || known.tag.is_none() && known.modified.is_some() && known.modified != modified
    };
    match known.is_some_and(is_other) {
        true => for_good(changed()),
        false => Ok(Answer { bytes: Vec::new(), len, tag, modified }),
    }
}

/// What a status means that is a refusal, for now or for good.
fn refusal(address: &str, offset: u64, status: StatusCode) -> Option<Refusal> {
    Some(match status {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN | StatusCode::PROXY_AUTHENTICATION_REQUIRED => {
            let what = format!("the server refuses {} ({status})", plain(address));
            Refusal::ForGood(Error::Refused { what })
        }
        StatusCode::NOT_FOUND | StatusCode::GONE => {
            let why = format!("the server has no such file ({status})");
            Refusal::ForGood(failed(address, offset, ErrorKind::NotFound, why))
        }
        status
            if status.is_server_error()
                || status == StatusCode::TOO_MANY_REQUESTS
                || status == StatusCode::REQUEST_TIMEOUT =>
        {
            Refusal::ForNow(format!("the server answers {status}"))
        }
        _ => return None,
    })
}

/// `bytes 0-9/100`, or `bytes */0`: the range that was sent, and the length of all.
fn parse_range(value: &str) -> Option<(Option<Range<u64>>, u64)> {
    let (range, len) = value.trim().strip_prefix("bytes")?.trim().split_once('/')?;
    let len = len.trim().parse().ok()?;
    if range.trim() == "*" {
        return Some((None, len));
    }
    let (first, last) = range.split_once('-')?;
    let (first, last): (u64, u64) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
    (first <= last && last < len).then(|| (Some(first..last + 1), len))
}

fn failed(address: &str, offset: u64, kind: ErrorKind, why: String) -> Error {
    Error::io_at("read", Path::new(&plain(address)), offset, std::io::Error::new(kind, why))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_servers_write_them() {
        assert_eq!(parse_range("bytes 0-9/100"), Some((Some(0..10), 100)));
        assert_eq!(parse_range("bytes */0"), Some((None, 0)));
        for wrong in
            ["bytes 9-0/100", "bytes 0-100/100", "bytes 0-9/*", "0-9/100", "bytes", "bytes 0-18446744073709551615/5"]
        {
            assert_eq!(parse_range(wrong), None, "{wrong}");
        }
    }
}
