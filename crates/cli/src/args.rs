//! The command line. Completions and manual pages are made from these definitions.

use crate::choices::TargetArgs;
use clap::builder::{OsStringValueParser, TypedValueParser};
use clap::{Args, Parser, Subcommand, ValueEnum};
use clap_complete::Shell;
use decanter_core::{Algorithm, Key, native};
use decanter_jobs::save::Swap;
use decanter_jobs::typed_in::size;
use std::path::PathBuf;

/// Turns raw dumps of game discs, cartridges and packages into verified, loadable copies.
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
#[allow(clippy::large_enum_variant, reason = "there is one in the whole process")]
pub enum Command {
    /// Read a disc through a drive into an image, with a map of what is missing; or a cartridge through a reader
    #[command(after_help = "Examples:  decanter dump /dev/sr0 -o \"Lamplighter Lane.iso\"\n           \
        decanter dump sim:saltmarsh/drive.toml -o lane.iso --picture lane.png\n           \
        decanter dump sim:saltmarsh/drive.toml -o lane.iso --fill-from \"saltmarsh/Lamplighter Lane.iso\"\n           \
        decanter dump /dev/sr0 --plan new -o plan.toml\n           \
        decanter dump sim:saltmarsh/drawer/reader.toml -o fogbell.gb\n           \
        decanter dump sim:saltmarsh/drawer/reader.toml --memory save -o fogbell.sav\n\n\
        While something is missing, the image is called FILE.incomplete and the exit code is 1; the same\n\
        command goes on where the map (FILE.map) says. DRIVE is a device, a file, or a simulated drive\n\
        (sim:drive.toml, docs/simulated-drive.md).\n\n\
        A cartridge is read twice; banks that differ are read again (--retries) until every byte settles.\n\
        --write puts a save into the cartridge: the old one is read into -o first, the new one read back after.")]
    Dump {
        /// A block device, a file, sim:drive.toml, or a cartridge reader (sim:reader.toml)
        #[arg(value_name = "DRIVE", value_parser = native())]
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
        #[arg(long, value_name = "OTHER", value_parser = native())]
        fill_from: Vec<String>,
        /// Follow this plan; "new" writes one from what the drive shows
        #[arg(long, value_name = "FILE|new")]
        plan: Option<PathBuf>,
        /// Sectors of the disc, where the drive reports too few
        #[arg(long, value_name = "N")]
        sectors: Option<u64>,
        /// Bytes of a sector; a simulated drive says it itself
        #[arg(long, default_value_t = 2048, value_name = "N", value_parser = clap::value_parser!(u64).range(512..=4096))]
        sector_bytes: u64,
        /// Begin anew where an unfinished dump of this name is: what it has is removed
        #[arg(long)]
        restart: bool,
        /// Draw a map of the disc as a PNG
        #[arg(long, value_name = "PNG")]
        picture: Option<PathBuf>,
        /// Which memory of a cartridge [default: rom]
        #[arg(long, value_name = "WHICH", value_enum)]
        memory: Option<MemoryArg>,
        /// Write this file into the save memory of the cartridge, once the old content is safe in -o
        #[arg(long, value_name = "SAVE", requires = "memory", value_parser = native())]
        write: Option<String>,
        /// Digests of the finished image, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
    },
    /// Say what a source is, what it needs, what it can become, and what to type next
    #[command(after_help = "Example:  decanter identify \"saltmarsh/Kelp Courier.zip\"\n\n\
        Folders are searched. Up to three sources get a screen each, more of them a table (with -v: screens).")]
    Identify {
        /// Files or folders
        #[arg(required = true, value_name = "SOURCE", value_parser = native())]
        sources: Vec<String>,
        /// Draw the one source as a PNG: a map of files, file system, padding, encrypted regions; of a DS ROM or a 3DS title its icon
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
        #[arg(value_name = "SOURCE", value_parser = native())]
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
        structure and the digests that the containers carry are checked. Every dump in a folder or an archive\n\
        and every partition of a drive has a row of its own.\n\n\
        MATCH: all that is described was compared and agrees. SOUND: digests of its own exist and hold.\n\
        READABLE: everything can be read, nothing proves it. NOTHING CHECKED, DIFFERS, INCOMPLETE, DAMAGED:\n\
        exit code 1."
    )]
    Verify {
        /// Images, archives with one, or folders with extracted files
        #[arg(required = true, value_name = "SOURCE", value_parser = native())]
        sources: Vec<String>,
        /// A disc description, a DAT file or a checksum list (repeatable)
        #[arg(long, value_name = "FILE", value_parser = native())]
        against: Vec<String>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Compute CRC-32, MD5, SHA-1 and SHA-256 in one read
    #[command(after_help = "Examples:  decanter digest \"saltmarsh/Kelp Courier.iso\"\n           \
        decanter digest --style sums *.iso > SHA256SUMS\n\n\
        The bytes are those of exactly what you name: use box.zip::disc.iso for an image in an archive.\n\
        Of a folder every file below it has its own digests.\n\
        --style sums prints lines that sha256sum --check and cksum --check read; with it, SHA-256 is the\n\
        default, and several algorithms give tagged lines.")]
    Digest {
        /// Files, or folders with some
        #[arg(required = true, value_name = "SOURCE", value_parser = native())]
        sources: Vec<String>,
        /// How to print
        #[arg(long, value_enum, default_value = "table")]
        style: Style,
        /// Which digests, separated by commas: crc32, md5, sha1, sha256 [default: all]
        #[arg(short, long, value_delimiter = ',', value_name = "LIST")]
        algorithm: Vec<Algorithm>,
        /// Take zeros for the sectors that a dump does not have yet, instead of refusing it; the exit code is then 1
        #[arg(long)]
        incomplete: bool,
    },
    /// Copy the files inside a source into a folder, decrypting on the way
    #[command(after_help = "Examples:  decanter extract \"saltmarsh/Kelp Courier.zip\" -o kelp\n           \
        decanter extract \"saltmarsh/Kelp Courier.iso\" --only '*.png' --only PS3_GAME/TROPDIR\n           \
        decanter extract \"saltmarsh/machines/Fogbell arcade.chd::1::GAMES/FOGBELL\" -o fogbell\n           \
        decanter extract fogbell -o fixed --overlay saltmarsh/machines/fixes --originals before\n\n\
        What is damaged or missing in the source is left out and named; the exit code is then 1. Every file is\n\
        held against a description of the disc that lies next to it, and against what the source says of itself.")]
    Extract {
        /// A disc image or an archive
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// The folder to write [default: the source's name, in the current folder]
        #[arg(short, long, value_name = "DIR")]
        output: Option<PathBuf>,
        /// Only what matches: a path, a name, or a folder, with * and ? (repeatable; case does not count)
        #[arg(long, value_name = "GLOB", value_parser = native())]
        only: Vec<String>,
        /// Lay the files of this folder or archive over the result: those of the same path are replaced (repeatable)
        #[arg(long, value_name = "FOLDER", value_parser = native())]
        overlay: Vec<String>,
        /// Keep what the overlay replaces in this folder; laid over the result, it undoes the overlay
        #[arg(long, value_name = "DIR", requires = "overlay")]
        originals: Option<PathBuf>,
        /// Fail if there is no description to hold the files against; one next to the source is used in any case
        #[arg(long)]
        verify: bool,
        /// The description of this disc [default: the one next to the source]
        #[arg(long, value_name = "FILE", value_parser = native())]
        against: Vec<String>,
        /// Take the files as they are: ask no checksum around them, no digest of the source, no description
        #[arg(long, conflicts_with_all = ["verify", "against"])]
        unchecked: bool,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Write the same image with nothing encrypted in it
    #[command(after_help = "Example:  decanter decrypt \"saltmarsh/Kelp Courier.zip\" -o kelp.iso --verify\n\n\
        Only the encrypted regions change; every other byte, the region table included, is carried over.\n\
        The key is proven against the disc's own files before the first byte is written.")]
    Decrypt {
        /// An encrypted disc image, or an archive with one
        #[arg(value_name = "SOURCE", value_parser = native())]
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
        #[arg(long, value_name = "FILE", requires = "verify", value_parser = native())]
        against: Vec<String>,
        /// Decrypt a damaged source, too; the exit code is then 1
        #[arg(long)]
        keep_damage: bool,
        /// Ask no checksum of what the source is taken out of, and no digest that it carries
        #[arg(long)]
        unchecked: bool,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Turn a source into another format: rebuild, trim, expand, compress, repair
    #[command(after_help = "Examples:  decanter convert \"saltmarsh/Pier Nine Pinball.cue\" --to iso\n           \
        decanter convert \"saltmarsh/Lamplighter Lane.iso\" --to zst --prove\n           \
        decanter convert \"saltmarsh/Pier Nine Pinball (scratched).bin\" --repair -o repaired.bin\n           \
        decanter convert kelp --to iso -o kelp.iso\n           \
        decanter convert \"saltmarsh/drawer/Bramble Run.v64\" --to z64\n           \
        decanter convert \"saltmarsh/drawer/Moth Hour (padded).gba\" --trim -o \"Moth Hour.gba\"\n           \
        decanter convert \"saltmarsh/handheld/Kelp Dash.3ds\" --to cia --keys saltmarsh/handheld/keys\n           \
        decanter convert saltmarsh/machines/*.prg --to d64 --label GAMES -o games.d64\n           \
        decanter convert \"saltmarsh/machines/Tide Table.lha\" --to hdf --start auto\n           \
        decanter convert saltmarsh/machines/lantern.toml --to prg\n           \
        decanter convert \"saltmarsh/machines/Fogbell arcade.chd\" --to img\n\n\
        \"decanter identify SOURCE\" lists what a source can become, \"decanter formats\" what there is.\n\
        ROMs: --trim, --pad, --fill, --join, --odd, --split even-odd keep the form if --to is not given.")]
    Convert {
        /// An image, an archive or compressed image with one, a cue sheet, or a folder
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// Further sources, whose files are gathered onto the same disk (d64, d81)
        #[arg(value_name = "MORE", value_parser = native())]
        more: Vec<String>,
        #[command(flatten)]
        target: TargetArgs,
        /// The file to write [default: the source's name with the format's extension, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Read the result back and hold it against the source before it gets its name
        #[arg(long)]
        prove: bool,
        /// A further part of the dump, after SOURCE and those before (repeatable)
        #[arg(long, value_name = "PART")]
        join: Vec<String>,
        /// The chip with the odd bytes; SOURCE is the one with the even bytes
        #[arg(long, value_name = "PART", value_parser = native())]
        odd: Option<String>,
        /// Take zeros for the sectors that a dump does not have yet, instead of refusing it; the exit code is then 1
        #[arg(long)]
        incomplete: bool,
        /// Make it although the source is damaged; the exit code is then 1
        #[arg(long)]
        keep_damage: bool,
        /// Ask no checksum of what the source is taken out of, and no digest that it carries
        #[arg(long)]
        unchecked: bool,
        /// Digests of what the result holds, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
        #[command(flatten)]
        key: KeyArg,
    },
    /// Apply patches to a file, make them, or show what they do
    #[command(subcommand)]
    Patch(PatchCommand),
    /// Show saved games, and take them out of the files of emulators or put them in
    #[command(subcommand)]
    Save(SaveCommand),
    /// Show titles and pictures that a source carries, and write a picture in another size
    #[command(after_help = "Examples:  decanter label \"saltmarsh/drawer/Lantern Post.nds\"\n           \
        decanter label \"saltmarsh/drawer/Lantern Post.nds\" -o icon.png --size 128x128\n           \
        decanter label icon.png -o cover.png --size 256x192 --fit crop")]
    Label {
        /// A DS ROM, a 3DS image or package, or a picture of your own (PNG or JPEG)
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// The PNG to write
        #[arg(short, long, value_name = "PNG")]
        output: Option<PathBuf>,
        /// Width and height in pixels, as in 256x256 [default: as it is]
        #[arg(long, value_name = "WxH", value_parser = dimensions, requires = "output")]
        size: Option<(u32, u32)>,
        /// How it fills a shape that is not its own
        #[arg(long, value_enum, default_value = "letterbox")]
        fit: FitArg,
        /// How pixels are computed
        #[arg(long, value_enum, default_value = "smooth")]
        filter: FilterArg,
        /// Colour of the bars of a letterbox: six hexadecimal digits, or none
        #[arg(long, value_name = "RRGGBB", default_value = "none", value_parser = colour)]
        background: [u8; 4],
    },
    /// Make titles of ROMs: a recipe keeps names, pictures and settings, and makes them again
    #[command(subcommand)]
    Recipe(RecipeCommand),
    /// Write a start entry: a desktop entry for front ends, and the shell script that it runs
    #[command(after_help = "Example:  decanter launcher saltmarsh/drawer/Fogbell.gb -o fogbell --command player\n\n\
        How things are started is yours to say, in the configuration:\n\n  \
        [launch.arcade]\n  \
        command = [\"PROGRAM\", \"--fullscreen\", \"{file}\"]   # {file}: what is started\n  \
        before = [[\"PROGRAM\", \"WORD\"]]     # run first, one after the other\n  \
        beside = [[\"PROGRAM\"]]              # started first, ended on exit: mappers, mouse hiders\n  \
        after = [[\"PROGRAM\"]]               # run last, however it ended\n  \
        end = [\"NAME\"]                      # programs ended on exit, by name\n  \
        folder = \"DIR\"                      # the working folder [default: that of the file]")]
    Launcher {
        /// What is started: an image, a program, a file
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// The entry to write (.desktop); the script (.sh) goes beside it
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Which starter of the configuration [default: the only one]
        #[arg(long, value_name = "NAME", value_parser = native())]
        with: Option<String>,
        /// A command instead of the starter's, word by word (repeatable)
        #[arg(long, value_name = "WORD", allow_hyphen_values = true)]
        command: Vec<String>,
        /// The name that is shown [default: the file's]
        #[arg(long, value_name = "TEXT")]
        title: Option<String>,
        /// A line about it
        #[arg(long, value_name = "TEXT")]
        comment: Option<String>,
        /// A picture for it
        #[arg(long, value_name = "FILE")]
        icon: Option<PathBuf>,
    },
    /// Show which keys are known, from where, and for which of these sources; never their values
    #[command(after_help = "Example:  decanter keys \"saltmarsh/Kelp Courier.iso\" --keys saltmarsh/keys\n\n\
        A key file is named after the disc's id or the image (DCNT-10001.dkey) and holds 32 hexadecimal digits\n\
        or 16 raw bytes; a list has lines like  DCNT10001 = 00112233...  It may lie next to the source.")]
    Keys {
        /// Sources whose keys are looked for
        #[arg(value_name = "SOURCE", value_parser = native())]
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
    /// Remove what runs that were killed have left in a folder
    #[command(after_help = "Example:  decanter clean saltmarsh --dry-run\n\n\
        Unfinished files are hidden (.NAME.….part) and held by the run that writes them; what nobody holds is\n\
        left over. The next run onto the same target removes its own; this removes all in the folder.")]
    Clean {
        /// The folder
        #[arg(value_name = "DIR")]
        folder: PathBuf,
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

#[derive(Debug, Clone, Subcommand)]
pub enum RecipeCommand {
    /// Write a recipe for a ROM, or for all ROMs of a folder, with everything in it that they show
    #[command(after_help = "Example:  decanter recipe new \"saltmarsh/drawer/Moth Hour.gba\" -o moth.toml\n\n\
        The recipe is a text: every field is explained in it, and what is left out has the value shown.")]
    New {
        /// A ROM, or a folder with ROMs
        #[arg(value_name = "SOURCE", value_parser = native())]
        source: String,
        /// The recipe to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
    },
    /// Check a recipe and show what it will make
    #[command(after_help = "Example:  decanter recipe show saltmarsh/handheld/moth.toml --picture sheet.png\n\n\
        The picture shows both icons and the wide picture as the console does, and the darkening before and after.")]
    Show {
        /// The recipe
        #[arg(value_name = "RECIPE", value_parser = native())]
        recipe: String,
        /// Draw a title of it on a sheet, as a PNG
        #[arg(long, value_name = "PNG")]
        picture: Option<PathBuf>,
        /// Which title is drawn, from 1
        #[arg(long, value_name = "N", default_value_t = 1, requires = "picture")]
        title: usize,
    },
    /// Make the packages of a recipe
    #[command(after_help = "Example:  decanter recipe make saltmarsh/handheld/moth.toml -o \"Moth Hour.cia\"\n\n\
        The same recipe makes the same bytes. Every digest of a package is checked before it gets its name.")]
    Make {
        /// The recipe
        #[arg(value_name = "RECIPE", value_parser = native())]
        recipe: String,
        /// The package, or a folder for several [default: what the recipe says, in the current folder]
        #[arg(short, long, value_name = "FILE-OR-DIR")]
        output: Option<PathBuf>,
    },
}

#[derive(Debug, Clone, Subcommand)]
pub enum PatchCommand {
    /// Apply patches to a file, in the order given; the file is checked before, the result after
    #[command(
        after_help = "Examples:  decanter patch apply saltmarsh/drawer/Fogbell.gb saltmarsh/drawer/Fogbell.bps -o new.gb\n           \
        decanter patch apply new.gb saltmarsh/drawer/Fogbell.ups --undo -o again.gb\n\n\
        The source is never changed. If a patch expects the ROM with a header, in another byte order, trimmed or\n\
        padded, the error says so, and which command fits."
    )]
    Apply {
        /// The file to patch
        #[arg(value_name = "ROM", value_parser = native())]
        rom: String,
        /// IPS, UPS or BPS patches
        #[arg(required = true, value_name = "PATCH", value_parser = native())]
        patches: Vec<String>,
        /// The file to write [default: the source's name with those of the patches, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Go back from the patched file to the one before (UPS)
        #[arg(long)]
        undo: bool,
        /// Patch this form of the ROM: sfc, smc, nes, nes-bare, md, smd, z64, v64, n64
        #[arg(long = "as", value_name = "FORM")]
        form: Option<String>,
        /// Digests of the result, separated by commas: crc32, md5, sha1, sha256
        #[arg(short, long, value_delimiter = ',', value_name = "LIST", default_value = "crc32")]
        algorithm: Vec<Algorithm>,
    },
    /// Make a patch that leads from one file to another; it is proven before it is written
    #[command(after_help = "Example:  decanter patch make saltmarsh/drawer/Fogbell.gb new.gb -o change.bps\n\n\
        bps finds what was moved, and carries checksums; ups leads both ways; ips has neither, and ends at 16 MiB.")]
    Make {
        /// The file before
        #[arg(value_name = "OLD", value_parser = native())]
        old: String,
        /// The file after
        #[arg(value_name = "NEW", value_parser = native())]
        new: String,
        /// The patch to write [default: the name of NEW, in the current folder]
        #[arg(short, long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// Format of the patch: bps, ups or ips [default: what the name given with -o ends with, or bps]
        #[arg(long, value_name = "FORMAT")]
        format: Option<String>,
        /// Put the text of this file into the patch as metadata (bps)
        #[arg(long, value_name = "FILE")]
        metadata: Option<PathBuf>,
    },
    /// Show what a patch touches, and which files it expects and leads to
    #[command(
        after_help = "Example:  decanter patch show saltmarsh/drawer/Fogbell.bps\n\n-v lists every stretch that it touches."
    )]
    Show {
        /// An IPS, UPS or BPS patch
        #[arg(value_name = "PATCH", value_parser = native())]
        patch: String,
    },
}

#[derive(Debug, Clone, Args)]
pub struct SaveArgs {
    /// The ROM that the save belongs to: says what memory it should fit
    #[arg(long, value_name = "ROM", value_parser = native())]
    pub rom: Option<String>,
    /// Which memory of a file with several: eeprom, sram, flash, pak1 to pak4
    #[arg(long, value_name = "NAME")]
    pub part: Option<String>,
    /// The emulator's file has its bytes swapped in pairs (2) or reversed in fours (4)
    #[arg(long, value_name = "2|4", value_parser = swap)]
    pub swap: Option<Swap>,
    /// The title whose save it is, sixteen hexadecimal digits: checked against the block of a console; without --into
    /// a new block is made for it
    #[arg(long, value_name = "ID", value_parser = title_id)]
    pub title: Option<u64>,
}

#[derive(Debug, Clone, Subcommand)]
pub enum SaveCommand {
    /// Say what a save file is and how it is laid out; of a ROM, what save memory it has
    #[command(after_help = "Examples:  decanter save show saltmarsh/drawer/Fogbell.gb\n           \
        decanter save show saltmarsh/drawer/Fogbell.sav --rom saltmarsh/drawer/Fogbell.gb")]
    Show {
        /// A save file, or a ROM
        #[arg(value_name = "FILE", value_parser = native())]
        file: String,
        /// The ROM that the save belongs to: says what memory it should fit
        #[arg(long, value_name = "ROM", value_parser = native())]
        rom: Option<String>,
    },
    /// Write the content of the save memory, as a cartridge has it, into a new file
    #[command(after_help = "Example:  decanter save export saltmarsh/drawer/Fogbell.sav -o raw.sav\n\n\
        Clocks, filler, repetitions and other memories of an emulator's file are left out. Nothing is replaced, ever.")]
    Export {
        /// An emulator's save file, or the block that a console keeps for its GBA mode
        #[arg(value_name = "SAVE", value_parser = native())]
        file: String,
        /// The file to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        #[command(flatten)]
        more: SaveArgs,
    },
    /// Put the content of a save memory into a copy of an emulator's file
    #[command(after_help = "Example:  decanter save import raw.sav --into saltmarsh/drawer/Fogbell.sav -o new.sav\n\n\
        Always writes a new file, and says the digest of the old and the new save. Without --into a plain file of the\n\
        size of the ROM's memory is written. Nothing is replaced, ever.")]
    Import {
        /// The save as the cartridge has it
        #[arg(value_name = "SAVE", value_parser = native())]
        file: String,
        /// The emulator's file, or the block of a console, that a copy is made of
        #[arg(long, value_name = "FILE", value_parser = native())]
        into: Option<String>,
        /// The file to write
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        #[command(flatten)]
        more: SaveArgs,
    },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum MemoryArg {
    /// The game itself
    Rom,
    /// The memory that keeps saved games
    Save,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FitArg {
    /// All of it is shown, with bars where it does not reach
    Letterbox,
    /// All of the shape is filled; what is too much is cut from both sides
    Crop,
    /// It is stretched
    Stretch,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FilterArg {
    /// Soft edges, for photographs and drawings
    Smooth,
    /// Hard edges, for small icons
    Sharp,
}

#[derive(Debug, Clone, Args)]
pub struct KeyArg {
    /// The key of this source, 32 hexadecimal digits; goes before all that are found elsewhere
    #[arg(long, value_name = "HEX")]
    key: Option<Secret>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Style {
    /// All digests of a source below its name
    Table,
    /// Lines for sha256sum --check and cksum --check
    Sums,
}

/// A key as it was typed, or that it is none: the text itself may be most of a key, and is not kept.
#[derive(Debug, Clone)]
struct Secret(Option<Key>);

impl From<&str> for Secret {
    fn from(text: &str) -> Self {
        Self(Key::from_hex(text).filter(|key| key.bytes().len() == 16))
    }
}

impl KeyArg {
    /// The key that was given.
    pub fn key(&self) -> Option<Key> {
        self.key.as_ref()?.0.clone()
    }

    /// Whether what was given is no key.
    pub fn is_wrong(&self) -> bool {
        self.key.as_ref().is_some_and(|secret| secret.0.is_none())
    }
}

impl Command {
    /// Whether its output is a list that other programs read.
    pub fn is_list(&self) -> bool {
        matches!(self, Self::Digest { style: Style::Sums, .. })
    }

    /// The key of a command that takes one.
    pub fn key(&self) -> Option<&KeyArg> {
        match self {
            Self::Identify { key, .. }
            | Self::List { key, .. }
            | Self::Verify { key, .. }
            | Self::Extract { key, .. }
            | Self::Decrypt { key, .. }
            | Self::Convert { key, .. }
            | Self::Keys { key, .. } => Some(key),
            _ => None,
        }
    }
}

/// Paths and addresses: any bytes.
fn native() -> impl TypedValueParser<Value = String> {
    OsStringValueParser::new().map(native::text)
}

fn title_id(text: &str) -> Result<u64, String> {
    let digits = Some(text).filter(|t| t.len() == 16);
    digits
        .and_then(|t| u64::from_str_radix(t, 16).ok())
        .ok_or_else(|| "sixteen hexadecimal digits are needed".to_owned())
}

/// Reads how bytes are swapped.
fn swap(text: &str) -> Result<Swap, String> {
    match text {
        "2" => Ok(Swap::Pairs),
        "4" => Ok(Swap::Words),
        _ => Err("use 2 for pairs or 4 for groups of four".into()),
    }
}

/// Reads a width and a height such as `256x128`.
fn dimensions(text: &str) -> Result<(u32, u32), String> {
    let read = || {
        let (width, height) = text.split_once('x')?;
        Some((width.trim().parse().ok()?, height.trim().parse().ok()?))
    };
    read().ok_or_else(|| format!("\"{text}\" is no size: use a width and a height, as in 256x256"))
}

/// Reads a colour such as `14171c`, or `none`.
fn colour(text: &str) -> Result<[u8; 4], String> {
    if text == "none" {
        return Ok([0; 4]);
    }
    let digits = text.strip_prefix('#').unwrap_or(text);
    let value = u32::from_str_radix(digits, 16).ok().filter(|_| digits.len() == 6);
    let [_, red, green, blue] =
        value.ok_or_else(|| format!("\"{text}\" is no colour: use six hexadecimal digits"))?.to_be_bytes();
    Ok([red, green, blue, 0xff])
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
    fn a_wrong_key_is_not_repeated() {
        let cli = Cli::try_parse_from(["decanter", "list", "x", "--key", "0011223344"]).unwrap();
        assert!(cli.command.key().is_some_and(KeyArg::is_wrong));
        assert!(!format!("{cli:?}").contains("0011223344"));
    }
}
