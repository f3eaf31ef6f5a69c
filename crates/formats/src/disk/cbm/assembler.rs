//! A small assembler for what we write in the language of the 6502 ourselves.

use std::collections::HashMap;

/// Code with labels.
pub(in crate::disk::cbm) struct Code {
    base: u16,
    bytes: Vec<u8>,
    labels: HashMap<&'static str, u16>,
    /// Places that need an address: where, which, how far behind it, and how it is written.
    needs: Vec<(usize, &'static str, u16, Form)>,
}

/// How an address is written.
#[derive(Clone, Copy)]
pub(in crate::disk::cbm) enum Form {
    /// Both halves, the lower first.
    Absolute,
    /// The lower half.
    Low,
    /// The upper half.
    High,
    /// How far it is from behind the branch.
    Relative,
}

impl Code {
    /// Nothing yet, to stand at `base`.
    pub(in crate::disk::cbm) fn new(base: u16) -> Self {
        Self { base, bytes: Vec::new(), labels: HashMap::new(), needs: Vec::new() }
    }

    /// Where the next byte will stand.
    pub(in crate::disk::cbm) fn here(&self) -> u16 {
        self.base.wrapping_add(self.bytes.len() as u16)
    }

    /// Gives the next byte a name.
    pub(in crate::disk::cbm) fn label(&mut self, name: &'static str) {
        self.labels.insert(name, self.here());
    }

    /// Gives an address elsewhere a name.
    pub(in crate::disk::cbm) fn known(&mut self, name: &'static str, at: u16) {
        self.labels.insert(name, at);
    }

    /// Plain bytes: instructions without labels, and data.
    pub(in crate::disk::cbm) fn put(&mut self, bytes: &[u8]) {
        self.bytes.extend(bytes);
    }

    /// An instruction with an address, `more` behind a label.
    pub(in crate::disk::cbm) fn at(&mut self, op: u8, name: &'static str, more: u16) {
        self.bytes.push(op);
        self.needs.push((self.bytes.len(), name, more, Form::Absolute));
        self.bytes.extend([0, 0]);
    }

    /// An instruction with half of an address.
    pub(in crate::disk::cbm) fn half(&mut self, op: u8, name: &'static str, form: Form) {
        self.bytes.push(op);
        self.needs.push((self.bytes.len(), name, 0, form));
        self.bytes.push(0);
    }

    /// A branch.
    pub(in crate::disk::cbm) fn branch(&mut self, op: u8, name: &'static str) {
        self.half(op, name, Form::Relative);
    }

    /// The bytes, with all addresses in them.
    pub(in crate::disk::cbm) fn finish(mut self) -> Vec<u8> {
        for (at, name, more, form) in self.needs {
            let target = self.labels.get(name).copied().unwrap_or(self.base).wrapping_add(more);
            match form {
                Form::Absolute => self.bytes[at..at + 2].copy_from_slice(&target.to_le_bytes()),
                Form::Low => self.bytes[at] = target as u8,
                Form::High => self.bytes[at] = (target >> 8) as u8,
                Form::Relative => self.bytes[at] = target.wrapping_sub(self.base.wrapping_add(at as u16 + 1)) as u8,
            }
        }
        self.bytes
    }
}
