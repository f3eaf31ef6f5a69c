//! What a format is for: the one value that tells an archive from an image, and both from a patch.

/// What a format is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Role {
    /// A folder on this machine.
    Folder,
    /// Files of any kind, packed together.
    Archive,
    /// One thing in another form, mostly a smaller one: it is looked through like the thing itself.
    Wrapper,
    /// All bytes of a medium.
    Image(Medium),
    /// A text that names the files with the tracks of a disc.
    Sheet,
    /// What a cartridge holds.
    Rom,
    /// Titles of a console that are packed to be installed or to be started: cartridge images, packages, their contents.
    Package,
    /// Changes of something else.
    Patch,
    /// What other sources should be.
    Description,
    /// What a title or a program says of itself.
    Record,
    /// A program by itself.
    Program,
    /// Nobody knows.
    Unknown,
}

/// What an image is one of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Medium {
    /// A disc of sectors of 2,048 bytes.
    Disc,
    /// A CD with all bytes of its sectors.
    Cd,
    /// A drive with a table of partitions.
    Drive,
    /// One file system that fills a partition or a drive.
    Volume,
    /// A floppy disk of a home computer.
    Floppy,
    /// A tape.
    Tape,
    /// A cartridge, with more than its ROM.
    Cartridge,
}

impl Role {
    /// Whether an archive is looked through for it: an image, a ROM, a package, in whatever form.
    pub fn is_dump(self) -> bool {
        matches!(self, Self::Wrapper | Self::Image(_) | Self::Sheet | Self::Rom | Self::Package)
    }

    /// Whether it is a dump of something larger than a cartridge's ROM.
    pub fn is_large_dump(self) -> bool {
        self.is_dump() && self != Self::Rom
    }

    /// Whether it is all of a medium.
    pub fn is_image(self) -> bool {
        matches!(self, Self::Image(_) | Self::Sheet)
    }

    /// Whether it is a drive, a partition of one, or a file system that fills one.
    pub fn is_of_drive(self) -> bool {
        matches!(self, Self::Image(Medium::Drive | Medium::Volume))
    }

    /// Whether its files are files, and no image holds them.
    pub fn is_files(self) -> bool {
        matches!(self, Self::Folder | Self::Archive)
    }
}
