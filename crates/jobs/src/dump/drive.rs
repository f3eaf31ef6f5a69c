//! What sectors are read from.

/// Why sectors could not be read.
#[derive(Debug)]
pub enum Trouble {
    /// The medium: other sectors may be readable, and these another time.
    Medium,
    /// The drive itself: nothing more can be read now.
    Gone(String),
}

/// Something that sectors are read from.
pub trait Drive: Send {
    /// What it is, in a few words.
    fn describe(&self) -> String;
    /// Sectors that it says it has.
    fn sectors(&self) -> u64;
    /// Bytes of a sector.
    fn sector_len(&self) -> u64;
    /// Fills `buf` with whole sectors from `first` on.
    ///
    /// # Errors
    /// A [`Trouble`] if a single one of them cannot be read.
    fn read(&mut self, first: u64, buf: &mut [u8]) -> std::result::Result<(), Trouble>;
}
