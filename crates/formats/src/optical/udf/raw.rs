//! ECMA-167 structures as they stand on the disc, byte for byte. All numbers are little-endian.

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// What every descriptor begins with (3/7.2).
    Tag: 16 {
        id: U16<LE>,
        version: U16<LE>,
        checksum: u8,
        reserved: u8,
        serial: U16<LE>,
        crc: U16<LE>,
        crc_len: U16<LE>,
        location: U32<LE>,
    }
    /// A date (1/7.3): twelve bits of minutes from Greenwich below the type, then the local time.
    Timestamp: 12 {
        zone: U16<LE>,
        year: U16<LE>,
        month: u8,
        day: u8,
        hour: u8,
        minute: u8,
        second: u8,
        fractions: [u8; 3],
    }
    /// Who or what something belongs to (1/7.4).
    EntityId: 32 {
        flags: u8,
        id: [u8; 23],
        suffix: [u8; 8],
    }
    /// A set of characters (1/7.2.1).
    Charset: 64 {
        kind: u8,
        information: [u8; 63],
    }
    /// Bytes from a sector of the volume on (3/7.1).
    Extent: 8 {
        len: U32<LE>,
        sector: U32<LE>,
    }
    /// A block of a partition (4/7.1).
    BlockAddress: 6 {
        block: U32<LE>,
        partition: U16<LE>,
    }
    /// A short allocation descriptor (4/14.14.1): its block is in the partition of whoever has it.
    ShortAd: 8 {
        len: U32<LE>,
        block: U32<LE>,
    }
    /// A long one (4/14.14.2); UDF keeps the unique id of what it leads to in the last four bytes.
    LongAd: 16 {
        len: U32<LE>,
        at: BlockAddress,
        flags: U16<LE>,
        unique: U32<LE>,
    }
    /// An extended one (4/14.14.3).
    ExtendedAd: 20 {
        len: U32<LE>,
        recorded: U32<LE>,
        information: U32<LE>,
        at: BlockAddress,
        implementation: [u8; 2],
    }
    /// Where the descriptors are (3/10.2).
    Anchor: 32 {
        tag: Tag,
        main: Extent,
        reserve: Extent,
    }
    /// The volume (3/10.1).
    Primary: 512 {
        tag: Tag,
        sequence: U32<LE>,
        number: U32<LE>,
        id: [u8; 32],
        volume: U16<LE>,
        most_volumes: U16<LE>,
        level: U16<LE>,
        most_level: U16<LE>,
        charsets: U32<LE>,
        most_charsets: U32<LE>,
        set: [u8; 128],
        charset: Charset,
        explanatory: Charset,
        about: Extent,
        copyright: Extent,
        application: EntityId,
        made: Timestamp,
        implementation: EntityId,
        own: [u8; 64],
        predecessor: U32<LE>,
        flags: U16<LE>,
        reserved: [u8; 22],
    }
    /// Information of the logical volume (3/10.4; UDF 2.2.7).
    Information: 512 {
        tag: Tag,
        sequence: U32<LE>,
        implementation: EntityId,
        charset: Charset,
        volume: [u8; 128],
        texts: [[u8; 36]; 3],
        maker: EntityId,
        own: [u8; 128],
    }
    /// Where the descriptors go on (3/10.3).
    Pointer: 28 {
        tag: Tag,
        sequence: U32<LE>,
        next: Extent,
    }
    /// A partition (3/10.5).
    Partition: 512 {
        tag: Tag,
        sequence: U32<LE>,
        flags: U16<LE>,
        number: U16<LE>,
        contents: EntityId,
        contents_use: [u8; 128],
        access: U32<LE>,
        start: U32<LE>,
        blocks: U32<LE>,
        implementation: EntityId,
        own: [u8; 128],
        reserved: [u8; 156],
    }
    /// The logical volume (3/10.6), before its partition maps.
    Logical: 440 {
        tag: Tag,
        sequence: U32<LE>,
        charset: Charset,
        id: [u8; 128],
        block: U32<LE>,
        domain: EntityId,
        file_set: LongAd,
        maps_len: U32<LE>,
        maps: U32<LE>,
        implementation: EntityId,
        own: [u8; 128],
        integrity: Extent,
    }
    /// A partition map of type 1 (3/10.7.2).
    PlainMap: 6 {
        kind: u8,
        len: u8,
        volume: U16<LE>,
        number: U16<LE>,
    }
    /// A partition map of type 2 (3/10.7.3), up to what its kind adds.
    NamedMap: 40 {
        kind: u8,
        len: u8,
        reserved: [u8; 2],
        id: EntityId,
        volume: U16<LE>,
        number: U16<LE>,
    }
    /// What a sparable partition's map adds (UDF 2.2.9), before the places of its tables.
    Sparable: 8 {
        packet: U16<LE>,
        tables: u8,
        reserved: u8,
        table_len: U32<LE>,
    }
    /// A table of packets that stand elsewhere (UDF 2.2.12), before its entries.
    SparingTable: 56 {
        tag: Tag,
        id: EntityId,
        entries: U16<LE>,
        reserved: [u8; 2],
        sequence: U32<LE>,
    }
    /// An entry of it.
    Spared: 8 {
        from: U32<LE>,
        to: U32<LE>,
    }
    /// What a metadata partition's map adds (UDF 2.2.10).
    Metadata: 8 {
        file: U32<LE>,
        mirror: U32<LE>,
    }
    /// Free space outside partitions (3/10.8).
    Unallocated: 24 {
        tag: Tag,
        sequence: U32<LE>,
        extents: U32<LE>,
    }
    /// Whether the volume was closed (3/10.10; UDF 2.2.6), for one partition.
    Integrity: 134 {
        tag: Tag,
        recorded: Timestamp,
        kind: U32<LE>,
        next: Extent,
        next_unique: U64<LE>,
        contents_use: [u8; 24],
        partitions: U32<LE>,
        own_len: U32<LE>,
        free: U32<LE>,
        size: U32<LE>,
        implementation: EntityId,
        files: U32<LE>,
        folders: U32<LE>,
        least_read: U16<LE>,
        least_write: U16<LE>,
        most_write: U16<LE>,
    }
    /// The file set (4/14.1).
    FileSet: 512 {
        tag: Tag,
        recorded: Timestamp,
        level: U16<LE>,
        most_level: U16<LE>,
        charsets: U32<LE>,
        most_charsets: U32<LE>,
        number: U32<LE>,
        descriptor: U32<LE>,
        volume_charset: Charset,
        volume: [u8; 128],
        charset: Charset,
        id: [u8; 32],
        copyright: [u8; 32],
        about: [u8; 32],
        root: LongAd,
        domain: EntityId,
        next: LongAd,
        streams: LongAd,
        reserved: [u8; 32],
    }
    /// A name in a folder (4/14.4), before its own use, its name and its pad.
    FileIdentifier: 38 {
        tag: Tag,
        version: U16<LE>,
        characteristics: u8,
        name_len: u8,
        entry: LongAd,
        own_len: U16<LE>,
    }
    /// Which kind of entry follows (4/14.6).
    IcbTag: 20 {
        prior: U32<LE>,
        strategy: U16<LE>,
        parameter: [u8; 2],
        entries: U16<LE>,
        reserved: u8,
        file_type: u8,
        parent: BlockAddress,
        flags: U16<LE>,
    }
    /// Where a later version of an entry is (4/14.7).
    Indirect: 52 {
        tag: Tag,
        icb: IcbTag,
        next: LongAd,
    }
    /// A file (4/14.9), before its attributes and allocation descriptors.
    FileEntry: 176 {
        tag: Tag,
        icb: IcbTag,
        user: U32<LE>,
        group: U32<LE>,
        permissions: U32<LE>,
        links: U16<LE>,
        record_format: u8,
        record_display: u8,
        record_len: U32<LE>,
        len: U64<LE>,
        blocks: U64<LE>,
        accessed: Timestamp,
        modified: Timestamp,
        changed: Timestamp,
        checkpoint: U32<LE>,
        attributes: LongAd,
        implementation: EntityId,
        unique: U64<LE>,
        attributes_len: U32<LE>,
        allocation_len: U32<LE>,
    }
    /// The same with a time of creation and streams (4/14.17).
    ExtendedFileEntry: 216 {
        tag: Tag,
        icb: IcbTag,
        user: U32<LE>,
        group: U32<LE>,
        permissions: U32<LE>,
        links: U16<LE>,
        record_format: u8,
        record_display: u8,
        record_len: U32<LE>,
        len: U64<LE>,
        object_len: U64<LE>,
        blocks: U64<LE>,
        accessed: Timestamp,
        modified: Timestamp,
        created: Timestamp,
        changed: Timestamp,
        checkpoint: U32<LE>,
        reserved: [u8; 4],
        attributes: LongAd,
        streams: LongAd,
        implementation: EntityId,
        unique: U64<LE>,
        attributes_len: U32<LE>,
        allocation_len: U32<LE>,
    }
    /// More allocation descriptors (4/14.5), before them.
    AllocationExtent: 24 {
        tag: Tag,
        previous: U32<LE>,
        len: U32<LE>,
    }
}
