//! What stands on a PC drive: traces of operating systems, and the folder where the program seems to be.

use decanter_core::tree::Tree;
use std::collections::HashMap;

/// Files that only a certain system has.
const SYSTEMS: [(&str, &str); 9] = [
    ("io.sys", "DOS"),
    ("command.com", "DOS"),
    ("windows/system32/ntoskrnl.exe", "Windows NT family"),
    ("winnt/system32/ntoskrnl.exe", "Windows NT family"),
    ("windows/system/user.exe", "Windows 9x family"),
    ("bootmgr", "a Windows boot manager"),
    ("ntldr", "a Windows NT boot loader"),
    ("etc/fstab", "a Linux system"),
    ("etc/os-release", "a Linux system"),
];
/// Folders at the top that belong to a system.
const OWN: [&str; 12] = [
    "windows",
    "winnt",
    "dos",
    "recycler",
    "$recycle.bin",
    "system volume information",
    "boot",
    "usr",
    "lib",
    "bin",
    "sbin",
    "var",
];
/// Endings of programs.
const PROGRAMS: [&str; 4] = [".exe", ".com", ".bat", ".sh"];
/// Files that the machine runs when it starts.
const STARTS: [&str; 3] = ["autoexec.bat", "etc/rc.local", "etc/inittab"];

/// Systems that left their files.
pub(crate) fn systems(tree: &Tree) -> Vec<&'static str> {
    let paths: std::collections::HashSet<String> = tree.nodes.iter().map(|n| n.path.to_lowercase()).collect();
    let mut found: Vec<&str> =
        SYSTEMS.iter().filter(|(path, _)| paths.contains(*path)).map(|(_, name)| *name).collect();
    found.dedup();
    found
}

/// The folder with the program, and why.
pub(crate) fn program_folder(tree: &Tree) -> Option<(String, String)> {
    let starts: String = STARTS
        .iter()
        .filter_map(|path| tree.read(path, 64 << 10).ok().flatten())
        .flat_map(|bytes| bytes.into_iter().map(|b| char::from(b.to_ascii_lowercase())).collect::<Vec<_>>())
        .collect::<String>()
        .replace('\\', "/");
    let mut folders: HashMap<&str, u64> = HashMap::new();
    let programs = tree.files().filter(|(n, _)| {
        let lower = n.path.to_lowercase();
        let first = lower.split('/').next().unwrap_or_default();
        PROGRAMS.iter().any(|p| lower.ends_with(p)) && !OWN.contains(&first) && lower.contains('/')
    });
    for (node, _) in programs {
        if let Some((folder, _)) = node.path.rsplit_once('/') {
            folders.entry(folder).or_insert(0);
        }
    }
    for (node, file) in tree.files() {
        for (at, _) in node.path.match_indices('/') {
            if let Some(bytes) = folders.get_mut(&node.path[..at]) {
                *bytes += file.len;
            }
        }
    }
    let named = |folder: &str| starts.contains(&folder.to_lowercase());
    let best = folders.into_iter().max_by_key(|(folder, bytes)| (named(folder), *bytes, std::cmp::Reverse(*folder)))?;
    let size = crate::grouped(best.1);
    let why = match named(best.0) {
        true => format!("what runs at start names it; {size} bytes"),
        false => format!("it has a program, and more than any other folder with one: {size} bytes"),
    };
    Some((best.0.to_owned(), why))
}
