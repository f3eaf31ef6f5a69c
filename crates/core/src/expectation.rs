//! What a source should hold, according to a description that came with it or was made of a good copy.

use crate::digest::Digest;
use std::sync::Arc;

/// Digests and bytes that a source can be held against.
#[derive(Clone, Default)]
pub struct Expectation {
    /// What gives these values, as in "disc description of DCNT-10001".
    pub name: String,
    /// Ids the source must have one of, where the description names any.
    pub ids: Vec<String>,
    /// Length of the whole source in bytes, where known.
    pub len: Option<u64>,
    /// The files, each with its digest.
    pub files: Vec<ExpectedFile>,
    /// Stretches of the source, each with its digest or its very bytes.
    pub ranges: Vec<ExpectedRange>,
}

/// One file as it should be.
#[derive(Clone)]
pub struct ExpectedFile {
    /// Path in the tree, where the description knows it.
    pub path: Option<String>,
    /// Byte offset of the file's first byte in the source, where the description knows it.
    pub offset: Option<u64>,
    /// Length in bytes, where the description knows it.
    pub len: Option<u64>,
    /// Digest of the content, decrypted.
    pub digest: Digest,
}

/// One stretch of the source as it should be.
#[derive(Clone)]
pub struct ExpectedRange {
    /// What it is called, as in "region 3".
    pub name: String,
    /// Byte offset in the source.
    pub offset: u64,
    /// Length in bytes.
    pub len: u64,
    /// What to hold it against.
    pub check: RangeCheck,
}

/// What a stretch is held against.
#[derive(Clone)]
pub enum RangeCheck {
    /// These very bytes, as stored.
    Bytes(Arc<[u8]>),
    /// A digest of the bytes as they are on the disc or decrypted: descriptions differ in which, so either counts.
    EitherForm(Digest),
}
