//! Which file starts it? Programs of home computers, the likeliest first, each with the reasons.

use crate::grouped;
use decanter_core::source::read_vec;
use decanter_core::tree::{Content, Node, Tree};
use decanter_core::{Error, Result};
use decanter_formats::disk::amiga::hunk;
use decanter_formats::disk::cbm::prg;
use serde::Serialize;
use std::collections::HashMap;

/// The largest file that is looked at, and how many.
const MOST_LEN: u64 = 4 << 20;
const MOST_FILES: usize = 4000;
/// Programs that are named.
const MOST_NAMED: usize = 5;
/// Folders of the Amiga's system, whose programs are its own.
const SYSTEM: [&str; 11] =
    ["c", "l", "libs", "devs", "fonts", "classes", "system", "utilities", "tools", "prefs", "rexxc"];

/// A program that may be the one to start.
#[derive(Debug, Clone, Serialize)]
pub struct Starter {
    /// Where it is.
    pub path: String,
    /// How likely it is: the more, the likelier.
    pub points: i32,
    /// Why.
    pub why: Vec<String>,
}

/// The programs in a tree, the likeliest first.
///
/// # Errors
/// [`Error::Io`], [`Error::Cancelled`]; damaged files are passed over.
pub fn rank(tree: &Tree) -> Result<Vec<Starter>> {
    let mut found = Vec::new();
    let texts = Hints::read(tree)?;
    for (node, file) in tree.files().take(MOST_FILES) {
        let Content::Whole(source) = &file.content else { continue };
        if source.len() > MOST_LEN || source.len() < 4 {
            continue;
        }
        let is_prg = node.path.to_lowercase().ends_with(".prg");
        let head_len = if is_prg { source.len() } else { 20.min(source.len()) };
        let head = match read_vec(source.as_ref(), 0, head_len, "a program", MOST_LEN) {
            Ok(head) => head,
            Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
            Err(_) => continue,
        };
        if is_prg {
            let (points, why) = prg::judge(node.name(), &head);
            found.push(Starter { path: node.path.clone(), points, why });
        } else if hunk::is_executable(&head) {
            let bytes = read_vec(source.as_ref(), 0, source.len(), "a program", MOST_LEN).unwrap_or(head);
            found.push(amiga(node, &bytes, &texts));
        }
    }
    // Of equal ones the first of the source.
    found.sort_by_key(|s| std::cmp::Reverse(s.points));
    found.truncate(MOST_NAMED);
    Ok(found)
}

/// What icons and texts say of programs.
struct Hints {
    icons: HashMap<String, hunk::Icon>,
    tools: Vec<String>,
    texts: String,
}

impl Hints {
    fn read(tree: &Tree) -> Result<Self> {
        let mut hints = Self { icons: HashMap::new(), tools: Vec::new(), texts: String::new() };
        for (node, file) in tree.files().take(MOST_FILES) {
            let lower = node.path.to_lowercase();
            let name = lower.rsplit('/').next().unwrap_or(&lower);
            let is_text =
                ["readme", "read.me", "read me", ".doc", ".txt", "startup-sequence"].iter().any(|w| name.contains(w));
            let is_icon = lower.ends_with(".info");
            let Content::Whole(source) = &file.content else { continue };
            if !(is_text || is_icon) || source.len() > 256 << 10 {
                continue;
            }
            let bytes = match read_vec(source.as_ref(), 0, source.len(), "a text", MOST_LEN) {
                Ok(bytes) => bytes,
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(_) => continue,
            };
            if let Some(icon) = hunk::icon(&bytes).filter(|_| is_icon) {
                hints.tools.extend(icon.tool.iter().map(|t| t.to_lowercase()));
                hints.icons.insert(lower.trim_end_matches(".info").to_owned(), icon);
            } else if is_text {
                hints.texts.extend(bytes.iter().map(|b| char::from(b.to_ascii_lowercase())));
            }
        }
        Ok(hints)
    }
}

fn amiga(node: &Node, bytes: &[u8], hints: &Hints) -> Starter {
    let (mut points, mut why) = (20, vec!["an executable".to_owned()]);
    let mut add = |more: i32, text: String| {
        points += more;
        why.push(text);
    };
    let lower = node.path.to_lowercase();
    let (folder, name) = lower.rsplit_once('/').unwrap_or(("", &lower));
    match hints.icons.get(&lower).map(|i| i.kind) {
        Some(3) => add(30, "its icon is that of a program".into()),
        Some(_) => add(10, "it has an icon".into()),
        None => {}
    }
    if hints.tools.iter().any(|t| t.rsplit(['/', ':']).next() == Some(name)) {
        add(20, "an icon names it as its program".into());
    }
    if name.len() > 2 && hints.texts.contains(name) {
        add(10, "a text beside it names it".into());
    }
    if folder.split('/').any(|f| SYSTEM.contains(&f)) {
        add(-30, "in a folder of the system".into());
    }
    if ["install", "setup", "config", "prefs", "player", "reader", "ppmore", "multiview"]
        .iter()
        .any(|w| name.contains(w))
    {
        add(-20, "named like a helper".into());
    }
    match bytes.len() {
        0..4096 => add(-10, format!("small: {} bytes", grouped(bytes.len() as u64))),
        65_536.. => add(10, format!("large: {} bytes", grouped(bytes.len() as u64))),
        _ => {}
    }
    match hunk::system_version(bytes) {
        Some(version) => {
            add(0, format!("opens libraries of version {version}, so it seems to need system {}", release(version)))
        }
        None => add(0, "which system version it needs cannot be told".into()),
    }
    Starter { path: node.path.clone(), points, why }
}

/// The release of the system with libraries of this version.
fn release(version: u32) -> &'static str {
    match version {
        33 => "1.2",
        34..=35 => "1.3",
        36 => "2.0",
        37 => "2.04",
        38 => "2.1",
        39 => "3.0",
        40..=43 => "3.1",
        _ => "3.5 or later",
    }
}
