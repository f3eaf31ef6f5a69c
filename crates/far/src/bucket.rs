//! Buckets of stores of objects: how they are reached, and what their refusals mean.

use crate::wait::{innermost, runtime};
use decanter_core::{Error, Result};
use object_store::aws::{AmazonS3, AmazonS3Builder, AmazonS3ConfigKey};
use object_store::path::Path as Key;
use object_store::{BackoffConfig, ClientOptions, RetryConfig};
use std::collections::HashMap;
use std::io::ErrorKind;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::runtime::Runtime;

/// What addresses of objects begin with.
pub(crate) const SCHEME: &str = "s3://";
/// How long a server may take to be reached, and to send anything at all.
const SILENCE: Duration = Duration::from_secs(10);

/// How a store of objects is reached, as far as the environment does not say it.
#[derive(Debug, Clone, Default)]
pub struct Access {
    /// The address of the store, `https://HOST`; without one it is the one that the region has.
    pub endpoint: Option<String>,
    /// The region.
    pub region: Option<String>,
    /// The name of the key that requests are signed with. Without one they are not signed.
    pub access_key: Option<String>,
    /// The key.
    pub secret_key: Option<String>,
}

/// An address taken apart.
pub(crate) struct Address<'a> {
    pub(crate) bucket: &'a str,
    /// What stands after the bucket, without slashes at its ends.
    pub(crate) key: &'a str,
    /// Whether it ends as only folders do.
    pub(crate) is_folder: bool,
}

impl<'a> Address<'a> {
    /// # Errors
    /// [`Error::Usage`] for one without a bucket.
    pub(crate) fn of(text: &'a str) -> Result<Self> {
        let rest = text.strip_prefix(SCHEME).unwrap_or(text);
        let (bucket, key) = rest.split_once('/').unwrap_or((rest, ""));
        let is_plain = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_');
        if bucket.is_empty() || !bucket.bytes().all(is_plain) {
            return Err(Error::Usage(format!("\"{text}\" names no bucket: it is s3://BUCKET/KEY")));
        }
        Ok(Self { bucket, key: key.trim_end_matches('/'), is_folder: key.is_empty() || key.ends_with('/') })
    }

    /// The key, as requests take it.
    pub(crate) fn as_key(&self) -> Result<Key> {
        Key::parse(self.key).map_err(|e| Error::Usage(format!("\"{}\" is no key that can be asked for: {e}", self.key)))
    }
}

/// The address of an object.
pub(crate) fn spelled(bucket: &str, key: &Key) -> String {
    format!("{SCHEME}{bucket}/{key}")
}

/// What requests are made with: nothing is set up before the first one.
#[derive(Debug)]
pub(crate) struct Lines {
    access: Access,
    patience: Duration,
    runtime: Mutex<Option<Arc<Runtime>>>,
    buckets: Mutex<HashMap<String, Arc<AmazonS3>>>,
}

/// One bucket, ready to be asked.
#[derive(Debug, Clone)]
pub(crate) struct Line {
    pub(crate) runtime: Arc<Runtime>,
    pub(crate) store: Arc<AmazonS3>,
}

impl Lines {
    pub(crate) fn new(access: Access, patience: Duration) -> Self {
        Self { access, patience, runtime: Mutex::default(), buckets: Mutex::default() }
    }

    /// The line to a bucket.
    pub(crate) fn to(&self, bucket: &str) -> Result<Line> {
        let failed =
            |why: String| Error::io("use", Path::new(&format!("{SCHEME}{bucket}")), std::io::Error::other(why));
        let runtime = {
            let mut held = self.runtime.lock().unwrap_or_else(PoisonError::into_inner);
            match held.as_ref() {
                Some(runtime) => runtime.clone(),
                None => held.insert(Arc::new(runtime().map_err(failed)?)).clone(),
            }
        };
        let mut buckets = self.buckets.lock().unwrap_or_else(PoisonError::into_inner);
        let store = match buckets.get(bucket) {
            Some(store) => store.clone(),
            None => {
                let store = Arc::new(self.builder(bucket).build().map_err(|e| failed(innermost(&e)))?);
                buckets.insert(bucket.to_owned(), store.clone());
                store
            }
        };
        Ok(Line { runtime, store })
    }

    fn builder(&self, bucket: &str) -> AmazonS3Builder {
        use AmazonS3ConfigKey::{AccessKeyId, DefaultRegion, Endpoint, Region, S3Endpoint, SecretAccessKey};
        let mut builder = AmazonS3Builder::from_env().with_bucket_name(bucket);
        let has = |builder: &AmazonS3Builder, keys: &[AmazonS3ConfigKey]| {
            keys.iter().find_map(|key| builder.get_config_value(key).filter(|value| !value.is_empty()))
        };
        let Access { endpoint, region, access_key, secret_key } = &self.access;
        if let Some(endpoint) = endpoint.as_ref().filter(|_| has(&builder, &[Endpoint, S3Endpoint]).is_none()) {
            builder = builder.with_endpoint(endpoint);
        }
        if let Some(region) = region.as_ref().filter(|_| has(&builder, &[Region, DefaultRegion]).is_none()) {
            builder = builder.with_region(region);
        }
        if let (Some(key), Some(secret), None) =
            (access_key, secret_key, has(&builder, &[AccessKeyId, SecretAccessKey]))
        {
            builder = builder.with_access_key_id(key).with_secret_access_key(secret);
        }
        // What programs in a cluster are given instead of keys.
        let is_given = [
            "AWS_WEB_IDENTITY_TOKEN_FILE",
            "AWS_CONTAINER_CREDENTIALS_RELATIVE_URI",
            "AWS_CONTAINER_CREDENTIALS_FULL_URI",
        ];
        if has(&builder, &[AccessKeyId]).is_none() && is_given.iter().all(|name| std::env::var_os(name).is_none()) {
            builder = builder.with_skip_signature(true);
        }
        let is_plain = has(&builder, &[S3Endpoint, Endpoint]).is_some_and(|endpoint| endpoint.starts_with("http://"));
        let silence = SILENCE.min(self.patience);
        let options = ClientOptions::new()
            .with_allow_http(is_plain)
            .with_connect_timeout(silence)
            .with_read_timeout(silence)
            .with_timeout_disabled();
        let backoff = BackoffConfig {
            init_backoff: Duration::from_millis(100),
            max_backoff: Duration::from_secs(3),
            ..BackoffConfig::default()
        };
        let retry = RetryConfig { backoff, max_retries: usize::MAX, retry_timeout: self.patience };
        // Objects are taken away one by one: not every store knows how to take several at once.
        builder.with_client_options(options).with_retry(retry).with_config(AmazonS3ConfigKey::DisableBulkDelete, "true")
    }
}

/// Where a store that cannot be reached is looked for.
const WHERE: &str = " (the store is at AWS_ENDPOINT_URL or the configuration's endpoint, or else the region's own)";

/// What a store says, by who is to blame.
pub(crate) fn told(address: &str, offset: Option<u64>, error: &object_store::Error) -> Error {
    use object_store::Error as Store;
    let failed = |kind, why: String| {
        let source = std::io::Error::new(kind, why);
        match offset {
            Some(offset) => Error::io_at("read", Path::new(address), offset, source),
            None => Error::io("use", Path::new(address), source),
        }
    };
    match error {
        Store::NotFound { .. } => failed(ErrorKind::NotFound, "the store has no such object".into()),
        Store::Precondition { .. } | Store::NotModified { .. } => changed(),
        Store::PermissionDenied { .. } | Store::Unauthenticated { .. } => {
            let code = code_of(error).map(|code| format!(" ({code})")).unwrap_or_default();
            Error::Refused { what: format!("the store refuses {address}{code}") }
        }
        Store::InvalidPath { source } => Error::Unreadable {
            why: format!(
                "a key in it has an empty name between slashes, or one that leads elsewhere, and cannot be asked for: {source}"
            ),
        },
        other => match status_of(other) {
            Some(status) if status >= 500 => {
                failed(ErrorKind::TimedOut, format!("given up: the server answers {status}"))
            }
            Some(status) => {
                let code = code_of(other).map(|code| format!(" ({code})")).unwrap_or_default();
                failed(ErrorKind::Other, format!("the server answers {status}{code}"))
            }
            None => failed(ErrorKind::TimedOut, format!("given up: {}{WHERE}", innermost(other))),
        },
    }
}

/// What stands in the words of an error before the status: its type has no name outside its crate.
const BEFORE_STATUS: &str = "status code: ";

/// The status that the server answered with.
pub(crate) fn status_of(error: &object_store::Error) -> Option<u16> {
    let text = innermost(error);
    text.split_once(BEFORE_STATUS)?.1.get(..3)?.parse().ok()
}

/// What stands in `<Code>` of the answer: the store's own word for what is wrong.
fn code_of(error: &object_store::Error) -> Option<String> {
    let text = innermost(error);
    let code = text.split_once("<Code>")?.1.split_once("</Code>")?.0;
    code.bytes().all(|b| b.is_ascii_alphanumeric()).then(|| code.to_owned())
}

/// The object is another one by now.
pub(crate) fn changed() -> Error {
    Error::Unreadable { why: "the file at the server has changed while it was read: begin again".into() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_come_apart() {
        let parts = |text| Address::of(text).map(|a| (a.bucket, a.key, a.is_folder)).unwrap();
        assert_eq!(parts("s3://museum/discs/Kelp Courier.iso"), ("museum", "discs/Kelp Courier.iso", false));
        assert_eq!(parts("s3://museum"), ("museum", "", true));
        assert_eq!(parts("s3://museum/"), ("museum", "", true));
        assert_eq!(parts("s3://museum/discs/"), ("museum", "discs", true));
        for wrong in ["s3://", "s3:///x", "s3://me:secret@host/x"] {
            assert!(matches!(Address::of(wrong), Err(Error::Usage(_))), "{wrong}");
        }
    }
}
