//! A package put together of its contents. Layout: docs/formats/n3ds-package.md.

use super::ticket::Ticket;
use super::tmd::{Record, Tmd};
use super::{ALIGN, BITMAP_AT, HEADER, ID};
use crate::package::n3ds::ncch::{self, Content};
use decanter_core::blueprint::{Blueprint, Known};
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::{Error, Result};
use std::sync::Arc;

/// Bytes of the certificate area that stands for one that nobody gave: three certificates of the usual lengths.
const PLACEHOLDER: u64 = 0xa00;

/// What a package is made of.
pub struct Making {
    /// The certificates; a placeholder of zeros without them.
    pub certificates: Option<SourceRef>,
    /// The ticket.
    pub ticket: Ticket,
    /// The title metadata. Its records name all contents of the title; those that are here get their hashes late.
    pub tmd: Tmd,
    /// The contents that are here, in the order of the records.
    pub contents: Vec<Inner>,
    /// The meta section.
    pub meta: Option<SourceRef>,
}

/// A content that goes into a package.
pub struct Inner {
    /// Its record.
    pub record: Record,
    /// Its bytes.
    pub source: SourceRef,
    /// The content whose bytes they are, headers aside: the hashes of its files are checked while they pass by.
    pub proof: Option<Content>,
}

/// Lays a package out: every hash is computed while the contents pass by.
///
/// # Errors
/// [`Error::Unsupported`] for sections that are longer than the header can say.
pub fn compose(making: Making) -> Result<Blueprint> {
    let Making { certificates, ticket, tmd, contents, meta } = making;
    let word = |len: u64| u32::try_from(len).map_err(|_| Error::unsupported(ID, "a section of 4 GiB"));
    let certificates_len = certificates.as_ref().map_or(PLACEHOLDER, |c| c.len());
    let tmd_len = tmd.len_with(tmd.records.len());
    let mut header = vec![0; HEADER as usize];
    let meta_len = meta.as_ref().map_or(0, |m| m.len());
    let lens =
        [(0, HEADER), (0x08, certificates_len), (0x0c, ticket.bytes.len() as u64), (0x10, tmd_len), (0x14, meta_len)];
    for (at, len) in lens {
        header[at..at + 4].copy_from_slice(&word(len)?.to_le_bytes());
    }
    let sum: u64 = contents.iter().map(|c| c.source.len()).sum();
    header[0x18..0x20].copy_from_slice(&sum.to_le_bytes());
    for Inner { record, .. } in &contents {
        header[BITMAP_AT + usize::from(record.index / 8)] |= 0x80 >> (record.index % 8);
    }
    let mut blueprint = Blueprint::new();
    let rest = |len: u64| len.next_multiple_of(ALIGN) - len;
    blueprint.source(Arc::new(Bytes(header)));
    blueprint.fill(0, rest(HEADER));
    match certificates {
        Some(certificates) => blueprint.source(certificates),
        None => blueprint.fill(0, PLACEHOLDER),
    };
    blueprint.fill(0, rest(certificates_len));
    let ticket_len = ticket.bytes.len() as u64;
    blueprint.source(Arc::new(Bytes(ticket.bytes)));
    blueprint.fill(0, rest(ticket_len));
    let late = blueprint.late(tmd_len);
    blueprint.fill(0, rest(tmd_len));
    let mut parts = Vec::new();
    for Inner { record, source, proof } in contents {
        let (first, last) = match proof {
            Some(content) => ncch::lay(&content, &source, &format!("content {}", record.index), &mut blueprint)?,
            None => {
                let part = blueprint.source(source);
                (part, part)
            }
        };
        parts.push((record.index, last, blueprint.measure_whole(first, last)?));
    }
    if let Some(meta) = meta {
        blueprint.fill(0, rest(sum));
        blueprint.source(meta);
    }
    let needs: Vec<_> = parts.iter().map(|(_, part, _)| *part).collect();
    let make = move |known: &Known<'_>| {
        let mut done = Tmd::parse(&tmd.bytes())?;
        for (index, _, run) in &parts {
            let record = done.records.iter_mut().find(|r| r.index == *index);
            if let Some(record) = record {
                record.hash.copy_from_slice(known.blocks(*run));
            }
        }
        Ok(done.bytes())
    };
    blueprint.compute(late, &needs, Arc::new(make))?;
    Ok(blueprint)
}
