//! The command line. Completions and manual pages are made from these definitions.

use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::Shell;
use decanter_core::{Algorithm, Key};
use std::path::PathBuf;

/// Turns raw dumps of game discs into verified, loadable copies.
#[derive(Debug, Clone, Parser)]
#[command(
    name = "decanter",
    version,
    max_term_width = 100,
    infer_subcommands = false,
    arg_required_else_help = true,
    after_help = "A SOURCE is a file or a folder, and may look inside: \"box.zip::disc.iso::PS3_GAME/PARAM.SFO\".\n\
        An archive that holds exactly one image is looked through; end with :: to mean the archive itself.\n\
        Sources are never written to.\n\n\
        Exit codes: 0 done, or everything matched; 1 the answer is no; 2 wrong usage, or a target exists;\n\
        3 the source is not understood or broken; 4 a key or description is missing or wrong;\n\
        5 reading or writing failed; 130 interrupted.\n\n\
        Start with:  decanter demo saltmarsh"
)]
pub struct Cli {
    #[command(flatten)]
    pub global: Global,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Debug, Clone, Args)]
#[command(next_help_heading = "Options of every command")]
pub struct Global {
    /// Print one JSON object instead of text
    #[arg(long, global = true)]
    pub json: bool,
    /// Show no progress and no notices
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Tell more: every file, how things are known
    #[arg(short, long, global = true, conflicts_with = "quiet")]
    pub verbose: bool,
    /// Use colours
    #[arg(long, global = true, value_name = "WHEN", value_enum)]
    pub color: Option<When>,
    /// Look for keys in this file or folder too (repeatable; also DECANTER_KEYS, a list like PATH)
    #[arg(long, global = true, value_name = "FILE-OR-DIR")]
    pub keys: Vec<PathBuf>,
    /// Read this configuration instead of decanter/config.toml in your configuration folder
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Work on this many files or sources at once [default: one for each processor]
    #[arg(long, global = true, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    pub jobs: Option<u16>,
    /// Do everything but write
    #[arg(long, global = true)]
    pub dry_run: bool,
    /// Replace targets that exist
    #[arg(long, global = true)]
    pub replace: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum When {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Clone, Subcommand)]
pub enum Command {
    /// Read a disc through a drive into an image, with a map of what is missing, and go on later
    #[command(after_help = "Examples:  decanter dump /dev/sr0 -o \"Lamplighter Lane.iso\"\n           \
        decanter dump sim:saltmarsh/drive.toml -o lane.iso --picture lane.png\n           \
        decanter dump sim:saltmarsh/drive.toml -o lane.iso --fill-from \"saltmarsh/Lamplighter Lane.iso\"\n           \
        decanter dump /dev/sr0 --plan new -o plan.toml\n\n\
        While something is missing, the image is called FILE.incomplete and the exit code is 1; the same\n\
        command goes on where the map (FILE.map) says. DRIVE is a device, a file, or a simulated drive\n\
        (sim:drive.toml, docs/simulated-drive.md).")]
    Dump {
        /// A block device, a file, or sim:drive.toml
        #[arg(value_name = "DRIVE")]
        drive: String,
        /// The image to write; with --plan new the plan
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Passes over what is missing: the first reads large pieces, later ones single sectors from both sides
        #[arg(long, default_value_t = 4, value_name = "N", value_parser = clap::value_parser!(u32).range(0..=1000))]
        passes: u32,
        /// Tries of each missing sector in each later pass
        #[arg(long, default_value_t = 3, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=1000))]
        retries: u32,
        /// Read everything until two reads agree, for drives that return wrong bytes now and then
        #[arg(long)]
        twice: bool,
        /// Take missing sectors from another copy of this disc, complete or incomplete (repeatable)
        #[arg(long, value_name = "OTHER")]
        fill_from: Vec<String>,
        /// Follow this plan; "new" writes one from what the drive shows
        #[arg(long, value_name = "FILE|new")]
        plan: Option<PathBuf>,
        /// Sectors of the disc, where the drive reports too few
        #[arg(long, value_name = "N", conflicts_with = "plan")]
        sectors: Option<u64>,
        /// Bytes of a sector; a simulated drive says it itself
        #[arg(long, default_value_t = 2048, value_name = "N", value_parser = clap::value_parser!(u64).range(512..=4096))]
        sector_bytes: u64,
        /// Draw a map of the disc as a PNG
        #[arg(long, value_name = "PNG")]
        picture: Option<PathBuf>,
        /// Digests of the finished image, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
    },
    /// Say what a source is, what it needs, what it can become, and what to type next
    #[command(after_help = "Example:  decanter identify \"saltmarsh/Kelp Courier.zip\"\n\n\
        Folders are searched. Up to three sources get a screen each, more of them a table (with -v: screens).")]
    Identify {
        /// Files or folders
        #[arg(required = true, value_name = "SOURCE")]
        sources: Vec<String>,
        /// Draw a map of the one source as a PNG: files, file system, padding, encrypted regions
        #[arg(long, value_name = "PNG")]
        picture: Option<PathBuf>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// List what is inside a source
    #[command(after_help = "Example:  decanter list \"saltmarsh/Kelp Courier.iso\"\n\n\
        Columns: size in bytes, date (UTC), first sector, state (* encrypted and the key is missing,\n\
        ! cut short or broken), path.")]
    List {
        /// A disc image, an archive, or anything with files or values inside
        #[arg(value_name = "SOURCE")]
        source: String,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Check sources against what is known of them, file by file and region by region
    #[command(
        after_help = "Example:  decanter verify \"saltmarsh/Kelp Courier.zip\" --against \"saltmarsh/Kelp Courier.ird\"\n\n\
        With a DAT file or a checksum list, every file counts by its content, also in archives and compressed\n\
        images: match, right content under another name, known bad, differs, missing, unknown.\n\
        A CD image is checked sector by sector: sync, address, EDC, ECC.\n\n\
        Without --against, a description of the same disc next to the source is used; without one, the\n\
        structure and the digests that the containers carry are checked. Exit code 1 if anything differs."
    )]
    Verify {
        /// Images, archives with one, or folders with extracted files
        #[arg(required = true, value_name = "SOURCE")]
        sources: Vec<String>,
        /// A disc description, a DAT file or a checksum list (repeatable)
        #[arg(long, value_name = "FILE")]
        against: Vec<String>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Compute CRC-32, MD5, SHA-1 and SHA-256 in one read
    #[command(after_help = "Examples:  decanter digest \"saltmarsh/Kelp Courier.iso\"\n           \
        decanter digest --style sums *.iso > SHA256SUMS\n\n\
        The bytes are those of exactly what you name: use box.zip::disc.iso for an image in an archive.\n\
        --style sums prints lines that sha256sum --check and cksum --check read; with it, SHA-256 is the\n\
        default, and several algorithms give tagged lines.")]
    Digest {
        /// Files
        #[arg(required = true, value_name = "SOURCE")]
        sources: Vec<String>,
        /// How to print
        #[arg(long, value_enum, default_value = "table")]
        style: Style,
        /// Which digests, separated by commas: crc32, md5, sha1, sha256 [default: all]
        #[arg(short, long, value_delimiter = ',', value_name = "LIST")]
        algorithm: Vec<Algorithm>,
    },
    /// Copy the files inside a source into a folder, decrypting on the way
    #[command(after_help = "Examples:  decanter extract \"saltmarsh/Kelp Courier.zip\" -o kelp\n           \
        decanter extract \"saltmarsh/Kelp Courier.iso\" --only '*.png' --only PS3_GAME/TROPDIR\n\n\
        What is damaged or missing in the source is left out and named; the exit code is then 1.")]
    Extract {
        /// A disc image or an archive
        #[arg(value_name = "SOURCE")]
        source: String,
        /// The folder to write [default: the source's name, in the current folder]
        #[arg(short, long, value_name = "DIR")]
        output: Option<PathBuf>,
        /// Only what matches: a path, a name, or a folder, with * and ? (repeatable; case does not count)
        #[arg(long, value_name = "GLOB")]
        only: Vec<String>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Write the same image with nothing encrypted in it
    #[command(after_help = "Example:  decanter decrypt \"saltmarsh/Kelp Courier.zip\" -o kelp.iso --verify\n\n\
        Only the encrypted regions change; every other byte, the region table included, is carried over.\n\
        The key is proven against the disc's own files before the first byte is written.")]
    Decrypt {
        /// An encrypted disc image, or an archive with one
        #[arg(value_name = "SOURCE")]
        source: String,
        /// The file to write [default: the source's name, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Digests of what is written, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
        /// Hold the source against its description in the same read, and keep the result only if it matches
        #[arg(long)]
        verify: bool,
        /// The description for --verify [default: the one of this disc next to the source]
        #[arg(long, value_name = "FILE", requires = "verify")]
        against: Vec<String>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Turn a source into another format: rebuild, trim, expand, compress, repair
    #[command(after_help = "Examples:  decanter convert \"saltmarsh/Pier Nine Pinball.cue\" --to iso\n           \
        decanter convert \"saltmarsh/Lamplighter Lane.iso\" --to zst --prove\n           \
        decanter convert \"saltmarsh/Pier Nine Pinball (scratched).bin\" --repair -o repaired.bin\n           \
        decanter convert kelp --to iso -o kelp.iso\n\n\
        \"decanter identify SOURCE\" lists what a source can become, \"decanter formats\" what there is.\n\
        --split and --without: iso and xdvdfs. --udf and --label: iso. --blank: all but cd-raw. --keep-positions: xdvdfs.\n\
        --level: cso (1 to 12) and zst (1 to 22). --long: zst. --repair: cd-raw.")]
    Convert {
        /// An image, an archive or compressed image with one, a cue sheet, or a folder
        #[arg(value_name = "SOURCE")]
        source: String,
        /// The format of the result: iso, cd-raw, xdvdfs, cso, zso, zst
        #[arg(long, value_name = "FORMAT")]
        to: Option<String>,
        /// The file to write [default: the source's name with the format's extension, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Effort of compression: more is smaller and slower [default: 9 for cso, 12 for zst]
        #[arg(long, value_name = "N")]
        level: Option<i32>,
        /// Look for repetitions further back: smaller where files repeat, slower, in larger frames
        #[arg(long)]
        long: bool,
        /// Write several files of at most this size, as in 4GiB-1 for a FAT32 stick
        #[arg(long, value_name = "SIZE", value_parser = part_size)]
        split: Option<u64>,
        /// Keep every file at its sector, and drop only what lies between
        #[arg(long)]
        keep_positions: bool,
        /// Fill these files with zeros in place: a path, a name or a folder, with * and ? (repeatable)
        #[arg(long, value_name = "GLOB")]
        blank: Vec<String>,
        /// Leave these files out of a rebuilt image (repeatable)
        #[arg(long, value_name = "GLOB")]
        without: Vec<String>,
        /// Correct the sectors of a CD image by their P and Q parities, each proven by its EDC
        #[arg(long)]
        repair: bool,
        /// Read the result back and hold it against the source before it gets its name
        #[arg(long)]
        prove: bool,
        /// Add a UDF volume beside ISO 9660 in an image that is made of files, as on DVDs
        #[arg(long)]
        udf: bool,
        /// Volume label of a new file system [default: the title, or the folder's name]
        #[arg(long, value_name = "TEXT")]
        label: Option<String>,
        /// Digests of what the result holds, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Show which keys are known, from where, and for which of these sources; never their values
    #[command(after_help = "Example:  decanter keys \"saltmarsh/Kelp Courier.iso\" --keys saltmarsh/keys\n\n\
        A key file is named after the disc's id or the image (DCNT-10001.dkey) and holds 32 hexadecimal digits\n\
        or 16 raw bytes; a list has lines like  DCNT10001 = 00112233...  It may lie next to the source.")]
    Keys {
        /// Sources whose keys are looked for
        #[arg(value_name = "SOURCE")]
        sources: Vec<String>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// List the formats that can be read, and what can be made of them
    #[command(after_help = "Example:  decanter formats --json")]
    Formats,
    /// Make a collection of made-up discs in a folder, and run the main commands on it
    #[command(after_help = "Example:  decanter demo saltmarsh\n\n\
        The collection is the same every time, and every title, id and key in it is invented.")]
    Demo {
        /// The folder to write
        #[arg(value_name = "DIR")]
        folder: PathBuf,
        /// Size of the disc image, as in 64MiB or 40GiB; what goes beyond 64 MiB is a hole
        #[arg(long, default_value = "64MiB", value_name = "SIZE", value_parser = size)]
        size: u64,
        /// Fill the whole size with data in an encrypted region, as for measuring
        #[arg(long)]
        dense: bool,
        /// Only make the collection
        #[arg(long)]
        no_tour: bool,
    },
    /// Print a completion script for a shell
    #[command(after_help = "Example:  decanter completions bash > ~/.local/share/bash-completion/completions/decanter")]
    Completions {
        /// The shell
        shell: Shell,
    },
    /// Write the manual pages into a folder
    #[command(after_help = "Example:  decanter manual -o ~/.local/share/man/man1")]
    Manual {
        /// The folder; it is made if it is not there
        #[arg(short, long, value_name = "DIR")]
        output: PathBuf,
    },
}

#[derive(Debug, Clone, Args)]
pub struct KeyArg {
    /// The key of this source, 32 hexadecimal digits; goes before all that are found elsewhere
    #[arg(long, value_name = "HEX", value_parser = key)]
    pub key: Option<Key>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Style {
    /// All digests of a source below its name
    Table,
    /// Lines for sha256sum --check and cksum --check
    Sums,
}

fn key(text: &str) -> Result<Key, String> {
    match Key::from_hex(text) {
        Some(key) if key.bytes().len() == 16 => Ok(key),
        // The text itself may be most of a key: it is not repeated.
        _ => Err("a key has 32 hexadecimal digits".into()),
    }
}

/// Reads a size such as `64MiB`, `2G` or `1000000`.
fn size(text: &str) -> Result<u64, String> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let shift = match text[digits.len()..].to_ascii_lowercase().as_str() {
        "" | "b" => 0,
        "k" | "kib" => 10,
        "m" | "mib" => 20,
        "g" | "gib" => 30,
        "t" | "tib" => 40,
        other => return Err(format!("\"{other}\" is no unit; use KiB, MiB, GiB or TiB")),
    };
    let number: u64 = digits.trim().parse().map_err(|_| format!("\"{text}\" is no size"))?;
    number.checked_mul(1 << shift).ok_or_else(|| format!("\"{text}\" is too large"))
}

/// Reads a size that may have a number of bytes taken off: `4GiB-1`.
fn part_size(text: &str) -> Result<u64, String> {
    let (whole, less) = text.split_once('-').unwrap_or((text, "0"));
    let less: u64 = less.trim().parse().map_err(|_| format!("\"{less}\" is no number of bytes"))?;
    let bytes = size(whole.trim())?.saturating_sub(less) / 2048 * 2048;
    if bytes == 0 { Err("a part needs at least one sector of 2048 bytes".into()) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn definitions_are_consistent() {
        Cli::command().debug_assert();
    }

    #[test]
    fn sizes() {
        assert_eq!(size("64MiB"), Ok(64 << 20));
        assert_eq!(size("2g"), Ok(2 << 30));
        assert_eq!(size("512"), Ok(512));
        assert_eq!(part_size("4GiB-1"), Ok((4 << 30) - 2048));
        assert!(size("12x").is_err() && size("").is_err() && size("99999999999TiB").is_err());
    }

    #[test]
    fn a_wrong_key_is_not_repeated() {
        let result = Cli::try_parse_from(["decanter", "list", "x", "--key", "0011223344"]);
        let told = result.err().map(|e| e.render().to_string()).unwrap_or_default();
        assert!(told.contains("32 hexadecimal digits"), "{told}");
    }
}
