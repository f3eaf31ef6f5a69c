//! A file in the making: what it will be called, what it will hold, and what is asked of it.

use super::largest_len;
use crate::blueprint::Blueprint;
use crate::digest::Algorithm;
use std::path::Path;

/// One output of a run.
#[derive(Clone, Copy)]
pub struct Output<'a> {
    /// What it holds.
    pub blueprint: &'a Blueprint,
    /// The name that it gets once it is complete.
    pub target: &'a Path,
    /// Digests of all its bytes that are wanted; they are computed from the blocks as they are written.
    pub digests: &'a [Algorithm],
    /// Whether it is a program that may be started.
    pub is_executable: bool,
}

impl<'a> Output<'a> {
    /// A file with these bytes under this name.
    pub fn new(blueprint: &'a Blueprint, target: &'a Path) -> Self {
        Self { blueprint, target, digests: &[], is_executable: false }
    }

    /// The same with digests.
    #[must_use]
    pub fn with_digests(self, digests: &'a [Algorithm]) -> Self {
        Self { digests, ..self }
    }

    /// The same as a program that may be started.
    #[must_use]
    pub fn executable(self) -> Self {
        Self { is_executable: true, ..self }
    }

    /// Its length as far as it is known before it is written.
    pub(super) fn len(&self) -> u64 {
        largest_len(self.blueprint)
    }

    /// What everybody may do with it, before the user's own mask.
    pub(super) fn mode(&self) -> u32 {
        if self.is_executable { 0o777 } else { 0o666 }
    }
}
