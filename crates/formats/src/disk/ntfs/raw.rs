//! How the first sector, records, attributes, names and lists stand in a volume (docs/formats/ntfs.md).

use crate::raw::layouts;
use zerocopy::byteorder::{LE, U16, U32, U64};

layouts! {
    /// The first sector.
    Boot: 512 {
        jump: [u8; 3],
        magic: [u8; 8],
        sector_len: U16<LE>,
        sectors_a_cluster: u8,
        unused: [u8; 26],
        sectors: U64<LE>,
        table: U64<LE>,
        table_copy: U64<LE>,
        record_len: i8,
        unused_2: [u8; 3],
        node_len: i8,
        unused_3: [u8; 3],
        serial: U64<LE>,
        sum: U32<LE>,
        code: [u8; 426],
        mark: [u8; 2],
    }

    /// What records and nodes of lists begin with: where the bytes are that belong to the end of every 512, and how many.
    Fixups: 8 {
        magic: [u8; 4],
        list: U16<LE>,
        count: U16<LE>,
    }

    /// The head of a record of the file table. `number` is there from version 3.1 on.
    Record: 48 {
        fixups: Fixups,
        log: U64<LE>,
        sequence: U16<LE>,
        links: U16<LE>,
        attributes: U16<LE>,
        flags: U16<LE>,
        used: U32<LE>,
        room: U32<LE>,
        base: U64<LE>,
        next_attribute: U16<LE>,
        unused: U16<LE>,
        number: U32<LE>,
    }

    /// What all attributes begin with.
    Attribute: 16 {
        kind: U32<LE>,
        len: U32<LE>,
        is_elsewhere: u8,
        name_len: u8,
        name: U16<LE>,
        flags: U16<LE>,
        id: U16<LE>,
    }

    /// One whose value stands in the record.
    Resident: 24 {
        head: Attribute,
        len: U32<LE>,
        at: U16<LE>,
        is_indexed: u8,
        unused: u8,
    }

    /// One whose value stands in clusters.
    Elsewhere: 64 {
        head: Attribute,
        first: U64<LE>,
        last: U64<LE>,
        runs: U16<LE>,
        unit: u8,
        unused: [u8; 5],
        room: U64<LE>,
        len: U64<LE>,
        written: U64<LE>,
    }

    /// A name, before its letters; times in units of 100 ns since 1601.
    Name: 66 {
        parent: U64<LE>,
        created: U64<LE>,
        modified: U64<LE>,
        record_modified: U64<LE>,
        read: U64<LE>,
        room: U64<LE>,
        len: U64<LE>,
        flags: U32<LE>,
        extra: U32<LE>,
        letters: u8,
        namespace: u8,
    }

    /// The root of a list of names, with the head of the list.
    Root: 32 {
        kind: U32<LE>,
        order: U32<LE>,
        node_len: U32<LE>,
        clusters_a_node: u8,
        unused: [u8; 3],
        list: List,
    }

    /// The head of a list, in its root or a node: where entries begin and end, from here.
    List: 16 {
        from: U32<LE>,
        to: U32<LE>,
        room: U32<LE>,
        flags: U32<LE>,
    }

    /// An entry of a list, before its key.
    Entry: 16 {
        file: U64<LE>,
        len: U16<LE>,
        key_len: U16<LE>,
        flags: U16<LE>,
        unused: U16<LE>,
    }
}
