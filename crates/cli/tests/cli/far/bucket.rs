//! A store of objects on loopback, as small as one can be: what the S3 interface says of reading ranges, listing in pages,
//! putting, and putting in parts. It looks at who asks, and at the digest of what it is sent.

use decanter_core::digest::{Algorithm, of_bytes};
use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Command;
use std::sync::{Arc, Mutex, MutexGuard};

pub const KEY: &str = "tidekeeper";
/// Entries of a page of a listing: small, so that there are several.
const PAGE: usize = 3;

/// How the store behaves.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manner {
    Good,
    /// Nobody has to sign.
    Open,
    /// The first requests fail.
    Failing(usize),
    /// Its tags say nothing of the bytes.
    Odd,
    /// Like that, and the last byte of what it is sent is another one afterwards.
    Corrupting,
    /// No object is ever put together.
    Stubborn,
    /// Each object gets another tag once it was read.
    Changing,
    /// Ranges are not looked at.
    Whole,
    /// A folder of this name is not listed.
    Hiding(&'static str),
}

#[derive(Default)]
pub struct State {
    /// By bucket and key, with tags.
    pub objects: BTreeMap<String, (Vec<u8>, String)>,
    pub uploads: BTreeMap<String, BTreeMap<u32, Vec<u8>>>,
    pub requests: usize,
    pub sent: u64,
    pub parts: usize,
}

pub struct Bucket {
    pub address: String,
    state: Arc<Mutex<State>>,
}

struct Request {
    method: String,
    path: String,
    query: BTreeMap<String, String>,
    headers: BTreeMap<String, String>,
    body: Vec<u8>,
}

impl Bucket {
    pub fn new(manner: Manner) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let state = Arc::new(Mutex::new(State::default()));
        let own = state.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let state = own.clone();
                // A client that goes away is none of the store's business.
                std::thread::spawn(move || serve(stream, manner, &state).is_ok());
            }
        });
        Self { address, state }
    }

    pub fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap()
    }

    pub fn put(&self, path: &str, bytes: &[u8]) {
        let tag = tag(bytes);
        self.state().objects.insert(path.to_owned(), (bytes.to_vec(), tag));
    }

    pub fn bytes(&self, path: &str) -> Option<Vec<u8>> {
        self.state().objects.get(path).map(|(bytes, _)| bytes.clone())
    }

    pub fn paths(&self) -> Vec<String> {
        self.state().objects.keys().cloned().collect()
    }

    /// A command that knows the store, and may use it.
    pub fn known_to<'a>(&self, command: &'a mut Command) -> &'a mut Command {
        command
            .env("AWS_ENDPOINT_URL", &self.address)
            .env("AWS_REGION", "shore-1")
            .env("AWS_ACCESS_KEY_ID", KEY)
            .env("AWS_SECRET_ACCESS_KEY", "made up for tests")
    }
}

fn tag(bytes: &[u8]) -> String {
    format!("\"{}\"", of_bytes(Algorithm::Md5, bytes).hex())
}

fn decoded(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        match byte {
            b'%' => {
                let digits: String = rest.by_ref().take(2).map(char::from).collect();
                bytes.push(u8::from_str_radix(&digits, 16).unwrap());
            }
            b'+' => bytes.push(b' '),
            byte => bytes.push(byte),
        }
    }
    String::from_utf8(bytes).unwrap()
}

fn receive(reader: &mut BufReader<TcpStream>) -> std::io::Result<Option<Request>> {
    let mut line = String::new();
    if reader.read_line(&mut line)? == 0 {
        return Ok(None);
    }
    let mut words = line.split(' ');
    let (method, target) = (words.next().unwrap_or_default().to_owned(), words.next().unwrap_or_default());
    let (path, query) = target.split_once('?').unwrap_or((target, ""));
    let pairs = query.split('&').filter(|p| !p.is_empty()).map(|p| p.split_once('=').unwrap_or((p, "")));
    let query = pairs.map(|(name, value)| (decoded(name), decoded(value))).collect();
    let path = decoded(path.trim_start_matches('/'));
    let mut headers = BTreeMap::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line)?;
        let Some((name, value)) = line.trim().split_once(':') else { break };
        headers.insert(name.to_ascii_lowercase(), value.trim().to_owned());
    }
    let len = headers.get("content-length").map_or(0, |len| len.parse().unwrap());
    let mut body = vec![0; len];
    reader.read_exact(&mut body)?;
    Ok(Some(Request { method, path, query, headers, body }))
}

fn serve(stream: TcpStream, manner: Manner, state: &Mutex<State>) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut stream = stream;
    while let Some(request) = receive(&mut reader)? {
        let (status, headers, body) = answer(&request, manner, &mut state.lock().unwrap());
        let is_head = request.method == "HEAD";
        let len = if is_head || headers.contains("Content-Length") {
            String::new()
        } else {
            format!("Content-Length: {}\r\n", body.len())
        };
        write!(stream, "HTTP/1.1 {status}\r\n{len}{headers}\r\n")?;
        if !is_head {
            stream.write_all(&body)?;
        }
    }
    Ok(())
}

type Answer = (&'static str, String, Vec<u8>);

fn refused(status: &'static str, code: &str) -> Answer {
    let body = format!("<?xml version=\"1.0\"?><Error><Code>{code}</Code><Message>no</Message></Error>");
    (status, "Content-Type: application/xml\r\n".into(), body.into_bytes())
}

fn answer(request: &Request, manner: Manner, state: &mut State) -> Answer {
    state.requests += 1;
    if matches!(manner, Manner::Failing(count) if state.requests <= count) {
        return refused("503 Slow Down", "SlowDown");
    }
    let who = request.headers.get("authorization").map(String::as_str).unwrap_or_default();
    if manner != Manner::Open && !who.starts_with(&format!("AWS4-HMAC-SHA256 Credential={KEY}/")) {
        return refused("403 Forbidden", "InvalidAccessKeyId");
    }
    let told = request.headers.get("x-amz-content-sha256").map(String::as_str).unwrap_or_default();
    if manner != Manner::Open && told != of_bytes(Algorithm::Sha256, &request.body).hex() {
        return refused("400 Bad Request", "XAmzContentSHA256Mismatch");
    }
    let has = |name: &str| request.query.contains_key(name);
    match request.method.as_str() {
        "GET" if matches!(manner, Manner::Hiding(name) if request.query.get("prefix").is_some_and(|p| p.ends_with(name))) => {
            refused("403 Forbidden", "AccessDenied")
        }
        "GET" if has("list-type") => (OK, String::new(), list(request, state)),
        "GET" | "HEAD" => read(request, manner, state),
        "PUT" if has("partNumber") => {
            state.parts += 1;
            let number = request.query["partNumber"].parse().unwrap();
            match state.uploads.get_mut(&request.query["uploadId"]) {
                Some(parts) => parts.insert(number, request.body.clone()),
                None => return refused("404 Not Found", "NoSuchUpload"),
            };
            (OK, format!("ETag: {}\r\n", tag(&request.body)), Vec::new())
        }
        "PUT" => {
            keep(&request.path, request.body.clone(), tag(&request.body), manner, state);
            (OK, format!("ETag: {}\r\n", tag(&request.body)), Vec::new())
        }
        "POST" if has("uploads") => {
            let id = format!("upload-{}", state.requests);
            state.uploads.insert(id.clone(), BTreeMap::new());
            let (bucket, key) = request.path.split_once('/').unwrap();
            let body = format!(
                "<InitiateMultipartUploadResult><Bucket>{bucket}</Bucket><Key>{key}</Key><UploadId>{id}</UploadId></InitiateMultipartUploadResult>"
            );
            (OK, String::new(), body.into_bytes())
        }
        "POST" if has("uploadId") && manner == Manner::Stubborn => refused("400 Bad Request", "InvalidPart"),
        "POST" if has("uploadId") => {
            let parts = state.uploads.remove(&request.query["uploadId"]).unwrap();
            let sums: Vec<u8> = parts.values().flat_map(|part| of_bytes(Algorithm::Md5, part).bytes).collect();
            let tag = format!("\"{}-{}\"", of_bytes(Algorithm::Md5, &sums).hex(), parts.len());
            keep(&request.path, parts.into_values().flatten().collect(), tag.clone(), manner, state);
            let body = format!("<CompleteMultipartUploadResult><ETag>{tag}</ETag></CompleteMultipartUploadResult>");
            (OK, String::new(), body.into_bytes())
        }
        "DELETE" if has("uploadId") => {
            state.uploads.remove(&request.query["uploadId"]);
            ("204 No Content", String::new(), Vec::new())
        }
        "DELETE" => {
            state.objects.remove(&request.path);
            ("204 No Content", String::new(), Vec::new())
        }
        other => panic!("{other} {}", request.path),
    }
}

const OK: &str = "200 OK";

fn keep(path: &str, mut bytes: Vec<u8>, tag: String, manner: Manner, state: &mut State) {
    let is_odd = matches!(manner, Manner::Odd | Manner::Corrupting);
    if let Some(last) = bytes.last_mut().filter(|_| manner == Manner::Corrupting) {
        *last ^= 1;
    }
    let tag = if is_odd { format!("\"odd-{}\"", state.requests) } else { tag };
    state.objects.insert(path.to_owned(), (bytes, tag));
}

fn read(request: &Request, manner: Manner, state: &mut State) -> Answer {
    let requests = state.requests;
    let Some((bytes, tag)) = state.objects.get_mut(&request.path) else {
        return refused("404 Not Found", "NoSuchKey");
    };
    if manner == Manner::Changing && request.method == "GET" {
        *tag = format!("\"later-{requests}\"");
    }
    if request.headers.get("if-match").is_some_and(|wanted| wanted != tag) {
        return refused("412 Precondition Failed", "PreconditionFailed");
    }
    let len = bytes.len();
    let mut headers =
        format!("ETag: {tag}\r\nLast-Modified: Sat, 28 Nov 2026 09:00:00 GMT\r\nAccept-Ranges: bytes\r\n");
    let range = request.headers.get("range").and_then(|range| range.strip_prefix("bytes="));
    if request.method == "HEAD" {
        headers.push_str(&format!("Content-Length: {len}\r\n"));
        return (OK, headers, Vec::new());
    }
    match range.and_then(|range| range.split_once('-')).filter(|_| manner != Manner::Whole) {
        Some((from, to)) => {
            let (from, to): (usize, usize) = (from.parse().unwrap(), to.parse::<usize>().unwrap() + 1);
            if from >= len {
                return refused("416 Requested Range Not Satisfiable", "InvalidRange");
            }
            let body = bytes[from..to.min(len)].to_vec();
            headers.push_str(&format!("Content-Range: bytes {from}-{}/{len}\r\n", to.min(len) - 1));
            state.sent += body.len() as u64;
            ("206 Partial Content", headers, body)
        }
        None => (OK, headers, bytes.clone()),
    }
}

fn list(request: &Request, state: &State) -> Vec<u8> {
    let bucket = request.path.trim_end_matches('/');
    let query = |name: &str| request.query.get(name).map(String::as_str).unwrap_or_default();
    let (prefix, delimiter, after) = (query("prefix"), query("delimiter"), query("continuation-token"));
    let mut entries = BTreeSet::new();
    for (path, _) in state.objects.iter() {
        let Some(key) = path.strip_prefix(&format!("{bucket}/")).filter(|key| key.starts_with(prefix)) else {
            continue;
        };
        let folder = (!delimiter.is_empty()).then(|| key[prefix.len()..].find(delimiter)).flatten();
        entries.insert(match folder {
            Some(at) => (key[..=prefix.len() + at].to_owned(), true),
            None => (key.to_owned(), false),
        });
    }
    let rest: Vec<_> = entries.into_iter().filter(|(name, _)| name.as_str() > after).collect();
    let mut text = format!("<?xml version=\"1.0\"?><ListBucketResult><Name>{bucket}</Name>");
    for (name, is_folder) in rest.iter().take(PAGE) {
        let shown = name.replace('&', "&amp;");
        if *is_folder {
            text.push_str(&format!("<CommonPrefixes><Prefix>{shown}</Prefix></CommonPrefixes>"));
            continue;
        }
        let (bytes, tag) = &state.objects[&format!("{bucket}/{name}")];
        text.push_str(&format!(
            "<Contents><Key>{shown}</Key><LastModified>2026-11-28T09:00:00.000Z</LastModified><ETag>{}</ETag><Size>{}</Size></Contents>",
            tag.replace('"', "&quot;"),
            bytes.len()
        ));
    }
    let is_cut = rest.len() > PAGE;
    text.push_str(&format!("<IsTruncated>{is_cut}</IsTruncated>"));
    if is_cut {
        text.push_str(&format!("<NextContinuationToken>{}</NextContinuationToken>", rest[PAGE - 1].0));
    }
    text.push_str("</ListBucketResult>");
    text.into_bytes()
}
