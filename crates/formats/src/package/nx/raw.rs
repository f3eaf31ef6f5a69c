//! Layouts of the family as they stand in files; sizes as in docs/formats/nca.md and its neighbours. All numbers are
//! little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::little_endian::{U16, U32, U64};

layouts! {
    /// Beginning of a partition file system.
    PartitionHead: 0x10 {
        magic: [u8; 4],
        count: U32,
        names_len: U32,
        reserved: U32,
    }
    /// Entry of a PFS0.
    PlainEntry: 0x18 {
        offset: U64,
        len: U64,
        name: U32,
        reserved: U32,
    }
    /// Entry of an HFS0.
    HashedEntry: 0x40 {
        offset: U64,
        len: U64,
        name: U32,
        hashed: U32,
        reserved: [u8; 8],
        hash: [u8; 32],
    }
    /// Header of a gamecard image, behind its signature: from 0x100 on.
    CardHead: 0x100 {
        magic: [u8; 4],
        secure_start: U32,
        backup_start: U32,
        key_index: u8,
        size_class: u8,
        version: u8,
        flags: u8,
        package_id: [u8; 8],
        valid_end: U32,
        reserved: [u8; 4],
        iv: [u8; 16],
        root_at: U64,
        root_len: U64,
        root_hash: [u8; 32],
        initial_hash: [u8; 32],
        secure_mode: U32,
        title_key: U32,
        key: U32,
        normal_end: U32,
        info: [u8; 0x70],
    }
    /// What the encrypted part of that header says.
    CardInfo: 0x70 {
        firmware: U64,
        access: U32,
        waits: [u8; 0x10],
        mode: U32,
        update_version: U32,
        compatibility: u8,
        reserved: [u8; 3],
        update_hash: [u8; 8],
        update_id: U64,
        rest: [u8; 0x38],
    }
    /// Header of a content, behind its signatures: from 0x200 on.
    ContentHead: 0x200 {
        magic: [u8; 4],
        distribution: u8,
        content: u8,
        old_generation: u8,
        area_key: u8,
        len: U64,
        program_id: U64,
        index: U32,
        sdk: U32,
        generation: u8,
        signature_generation: u8,
        reserved: [u8; 14],
        rights_id: [u8; 16],
        sections: [SectionPlace; 4],
        hashes: [[u8; 32]; 4],
        area: [[u8; 16]; 4],
        rest: [u8; 0xc0],
    }
    /// Where a section stands, in media units.
    SectionPlace: 0x10 {
        start: U32,
        end: U32,
        hashed: U32,
        reserved: U32,
    }
    /// Header of a section.
    SectionHead: 0x200 {
        version: U16,
        kind: u8,
        hash: u8,
        cipher: u8,
        meta_hash: u8,
        reserved: [u8; 2],
        hash_data: [u8; 0xf8],
        patch: PatchPlace,
        generation: U32,
        secure: U32,
        sparse: SparsePlace,
        packed: PackedPlace,
        rest: [u8; 0x60],
    }
    /// Beginning of a table of buckets, as headers repeat it.
    TableHead: 0x10 {
        magic: [u8; 4],
        version: U32,
        count: U32,
        reserved: U32,
    }
    /// Tables of a section that stands over another one.
    PatchPlace: 0x40 {
        moved_at: U64,
        moved_len: U64,
        moved: TableHead,
        counters_at: U64,
        counters_len: U64,
        counters: TableHead,
    }
    /// Table of a section of which parts are not stored.
    SparsePlace: 0x30 {
        at: U64,
        len: U64,
        table: TableHead,
        physical: U64,
        generation: U16,
        reserved: [u8; 6],
    }
    /// Table of a section that is compressed.
    PackedPlace: 0x28 {
        at: U64,
        len: U64,
        table: TableHead,
        reserved: [u8; 8],
    }
    /// Hashes of one level over the files.
    FlatHashes: 0xf8 {
        master: [u8; 32],
        block: U32,
        layers: U32,
        regions: [FlatRegion; 5],
        rest: [u8; 0x80],
    }
    /// A stretch of a section.
    FlatRegion: 0x10 {
        offset: U64,
        len: U64,
    }
    /// Hashes of several levels.
    DeepHashes: 0xf8 {
        magic: [u8; 4],
        version: U32,
        master_len: U32,
        levels: U32,
        level: [DeepLevel; 6],
        salt: [u8; 32],
        master: [u8; 32],
        rest: [u8; 0x18],
    }
    /// One of these levels.
    DeepLevel: 0x18 {
        offset: U64,
        len: U64,
        log: U32,
        reserved: U32,
    }
    /// Beginning of a node or bucket of a table.
    BucketHead: 0x10 {
        index: U32,
        count: U32,
        end: U64,
    }
    /// Where a stretch of a patched section is taken from.
    MovedEntry: 0x14 {
        virtual_at: U64,
        physical_at: U64,
        storage: U32,
    }
    /// From where on a counter holds.
    CounterEntry: 0x10 {
        at: U64,
        reserved: U32,
        generation: U32,
    }
    /// Beginning of the list of contents of a title.
    MetaHead: 0x20 {
        title_id: U64,
        version: U32,
        kind: u8,
        platform: u8,
        extended_len: U16,
        contents: U16,
        metas: U16,
        attributes: u8,
        storage: u8,
        install: u8,
        committed: u8,
        download_system: U32,
        reserved: [u8; 4],
    }
    /// A content in that list.
    MetaContent: 0x38 {
        hash: [u8; 32],
        id: [u8; 16],
        len: [u8; 5],
        attributes: u8,
        kind: u8,
        id_offset: u8,
    }
    /// Header of a RomFS.
    RomHead: 0x50 {
        len: U64,
        folder_hashes: Table,
        folders: Table,
        file_hashes: Table,
        files: Table,
        data_at: U64,
    }
    /// A table of a RomFS.
    Table: 0x10 {
        at: U64,
        len: U64,
    }
    /// A folder in a RomFS.
    RomFolder: 0x18 {
        parent: U32,
        sibling: U32,
        folder: U32,
        file: U32,
        hash_next: U32,
        name_len: U32,
    }
    /// A file in a RomFS.
    RomFile: 0x20 {
        parent: U32,
        sibling: U32,
        offset: U64,
        len: U64,
        hash_next: U32,
        name_len: U32,
    }
    /// A ticket behind its signature, up to the rights id.
    TicketBody: 0x180 {
        issuer: [u8; 0x40],
        title_key: [u8; 0x100],
        version: u8,
        key_kind: u8,
        ticket_version: U16,
        license: u8,
        generation: u8,
        properties: U16,
        reserved: [u8; 8],
        ticket_id: U64,
        device_id: U64,
        rights_id: [u8; 16],
        account: U32,
        sections_len: U32,
        sections_at: U32,
        sections: U16,
        section_len: U16,
    }
}
