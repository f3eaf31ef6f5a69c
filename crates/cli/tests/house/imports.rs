//! Who takes what from whom, as far as the text of the code shows it: `use` trees and paths, followed through re-exports.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

/// A path in the code, split at its colons.
type Segments = Vec<String>;

/// How many re-exports are followed.
const MOST_HOPS: usize = 8;

/// One file takes a name from another.
pub struct Arrow {
    pub from: usize,
    pub to: usize,
    pub name: String,
}

struct File {
    krate: String,
    /// Where it stands below `crates`.
    path: String,
    /// The module that it is: segments below the crate.
    module: Segments,
    /// Names that it hands on, and where they come from.
    exports: Vec<(String, Segments)>,
    /// All paths that it names, complete from the crate on.
    names: BTreeSet<Segments>,
}

/// All files with what they take from each other.
pub struct House {
    files: Vec<File>,
    arrows: Vec<Arrow>,
}

impl House {
    /// The house that this test stands in.
    pub fn read() -> Self {
        let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
        let mut found = Vec::new();
        for floor in std::fs::read_dir(crates).unwrap() {
            let floor = floor.unwrap().file_name().into_string().unwrap();
            let krate = if floor == "cli" { "decanter".to_owned() } else { format!("decanter_{floor}") };
            let mut todo = vec![crates.join(&floor).join("src")];
            while let Some(folder) = todo.pop() {
                for entry in std::fs::read_dir(&folder).unwrap() {
                    let path: PathBuf = entry.unwrap().path();
                    if path.is_dir() {
                        todo.push(path);
                    } else if path.extension().is_some_and(|e| e == "rs") {
                        let below = path.strip_prefix(crates).unwrap().to_str().unwrap().to_owned();
                        found.push((krate.clone(), below, std::fs::read_to_string(&path).unwrap()));
                    }
                }
            }
        }
        found.sort();
        Self::of(&found.iter().map(|(k, p, t)| (k.as_str(), p.as_str(), t.as_str())).collect::<Vec<_>>())
    }

    /// A house of these files: crate, path below `crates`, text.
    pub fn of(files: &[(&str, &str, &str)]) -> Self {
        let files: Vec<File> = files.iter().map(|(krate, path, text)| File::new(krate, path, text)).collect();
        let modules: BTreeMap<Segments, usize> = files.iter().enumerate().map(|(i, f)| (f.full(), i)).collect();
        let mut arrows = Vec::new();
        for (from, file) in files.iter().enumerate() {
            let mut seen = BTreeSet::new();
            for name in &file.names {
                if let Some(to) = resolve(&files, &modules, name.clone(), MOST_HOPS)
                    && to != from
                    && seen.insert((to, name.last().cloned()))
                {
                    arrows.push(Arrow { from, to, name: name.last().cloned().unwrap_or_default() });
                }
            }
        }
        Self { files, arrows }
    }

    pub fn files(&self) -> usize {
        self.files.len()
    }

    pub fn path(&self, file: usize) -> &str {
        &self.files[file].path
    }

    pub fn krate(&self, file: usize) -> &str {
        &self.files[file].krate
    }

    pub fn arrows(&self) -> impl Iterator<Item = &Arrow> {
        self.arrows.iter()
    }

    pub fn takes(&self, from: &str, to: &str) -> bool {
        self.arrows.iter().any(|a| self.path(a.from) == from && self.path(a.to) == to)
    }

    /// Files that reach each other. A parent and what stands below it are one room: where only their parent ties files
    /// together, it is taken out, and the rest must hold by itself.
    pub fn circles(&self) -> Vec<Vec<usize>> {
        let mut next = vec![BTreeSet::new(); self.files.len()];
        for arrow in &self.arrows {
            next[arrow.from].insert(arrow.to);
        }
        self.circles_among(&(0..self.files.len()).collect(), &next)
    }

    fn circles_among(&self, among: &BTreeSet<usize>, next: &[BTreeSet<usize>]) -> Vec<Vec<usize>> {
        let reach = |start: usize| {
            let (mut seen, mut todo) = (BTreeSet::new(), vec![start]);
            while let Some(at) = todo.pop() {
                todo.extend(next[at].iter().copied().filter(|to| among.contains(to) && seen.insert(*to)));
            }
            seen
        };
        let reached: BTreeMap<usize, BTreeSet<usize>> = among.iter().map(|&file| (file, reach(file))).collect();
        let (mut circles, mut done) = (Vec::new(), BTreeSet::new());
        for &file in among {
            let circle: BTreeSet<usize> =
                reached[&file].iter().copied().filter(|other| reached[other].contains(&file)).collect();
            if circle.len() < 2 || !done.insert(circle.clone()) {
                continue;
            }
            let is_above = |parent: usize| {
                let own = self.files[parent].full();
                circle.iter().all(|&f| f == parent || self.files[f].full().starts_with(&own))
            };
            match circle.iter().copied().find(|&parent| is_above(parent)) {
                Some(parent) => {
                    let rest = circle.iter().copied().filter(|&f| f != parent).collect();
                    circles.extend(self.circles_among(&rest, next));
                }
                None => circles.push(circle.into_iter().collect()),
            }
        }
        circles
    }

    /// A circle in words: every arrow in it, with the names that are taken.
    pub fn describe(&self, circle: &[usize]) -> String {
        let mut taken: BTreeMap<(usize, usize), Vec<&str>> = BTreeMap::new();
        for arrow in &self.arrows {
            if circle.contains(&arrow.from) && circle.contains(&arrow.to) {
                taken.entry((arrow.from, arrow.to)).or_default().push(&arrow.name);
            }
        }
        let line = |((from, to), names): (&(usize, usize), &Vec<&str>)| {
            format!("  {} -> {}: {}", self.path(*from), self.path(*to), names.join(", "))
        };
        format!("circle of {}\n{}", circle.len(), taken.iter().map(line).collect::<Vec<_>>().join("\n"))
    }
}

impl File {
    fn new(krate: &str, path: &str, text: &str) -> Self {
        let below = path.split_once("/src/").map_or(path, |(_, b)| b).trim_end_matches(".rs");
        let mut module: Segments = below.split('/').map(str::to_owned).collect();
        if module.last().is_some_and(|m| ["mod", "lib", "main"].contains(&m.as_str())) {
            module.pop();
        }
        let mut file = Self {
            krate: krate.to_owned(),
            path: path.to_owned(),
            module,
            exports: Vec::new(),
            names: BTreeSet::new(),
        };
        file.take_in(&plain(text));
        file
    }

    fn full(&self) -> Segments {
        std::iter::once(self.krate.clone()).chain(self.module.iter().cloned()).collect()
    }

    /// Collects `use` trees, then the paths in the rest.
    fn take_in(&mut self, text: &str) {
        let mut rest = String::new();
        let mut from = 0;
        while let Some(at) = text[from..].find("use ").map(|at| from + at) {
            let before = text[..at].trim_end_matches(' ');
            let is_word = text[..at].chars().next_back().is_some_and(|c| c.is_alphanumeric() || c == '_');
            let end = text[at..].find(';').map_or(text.len(), |e| at + e);
            if is_word {
                rest.push_str(&text[from..at + 4]);
                from = at + 4;
                continue;
            }
            rest.push_str(&text[from..at]);
            let is_public = before.ends_with("pub") || before.ends_with(')') && before.contains("pub(");
            let mut leaves = Vec::new();
            leaves_of(text[at + 4..end].trim(), &[], &mut leaves);
            for (path, alias) in leaves {
                if let Some(path) = self.absolute(&path) {
                    if is_public || alias != "*" {
                        self.exports.push((alias, path.clone()));
                    }
                    self.names.insert(path);
                }
            }
            from = end;
        }
        rest.push_str(&text[from..]);
        let words = rest.split(|c: char| !(c.is_alphanumeric() || c == '_' || c == ':'));
        for word in words.filter(|w| w.contains("::")) {
            let path: Segments = word.split("::").map(str::to_owned).collect();
            if let Some(path) = self.absolute(&path) {
                self.names.insert(path);
            }
        }
    }

    /// The same path from its crate on; `None` for what is of no crate of ours, or begins with a name of this file.
    fn absolute(&self, path: &[String]) -> Option<Segments> {
        let first = path.first()?.as_str();
        let mut base = self.full();
        match first {
            "crate" => base.truncate(1),
            "self" => {}
            "super" => {
                let ups = path.iter().take_while(|s| *s == "super").count();
                base.truncate(base.len().saturating_sub(ups));
                base.extend(path[ups..].iter().cloned());
                return Some(base);
            }
            _ if first.starts_with("decanter_") => return Some(path.to_vec()),
            // A module of this file, or a name that it imports.
            _ => {
                base.extend(path.iter().cloned());
                return Some(base);
            }
        }
        base.extend(path[1..].iter().cloned());
        Some(base)
    }
}

/// The file in which the last name of a path is defined, through what others hand on.
fn resolve(files: &[File], modules: &BTreeMap<Segments, usize>, path: Segments, hops: usize) -> Option<usize> {
    let depth = (1..=path.len()).rev().find(|&n| modules.contains_key(&path[..n]))?;
    let file = modules[&path[..depth]];
    let Some(name) = path.get(depth) else { return Some(file) };
    if hops == 0 {
        return Some(file);
    }
    for (alias, origin) in &files[file].exports {
        let mut origin = origin.clone();
        if alias == "*" {
            origin.pop();
            origin.push(name.clone());
        } else if alias != name {
            continue;
        }
        origin.extend(path[depth + 1..].iter().cloned());
        if origin == path {
            continue;
        }
        match resolve(files, modules, origin, hops - 1) {
            Some(found) if alias != "*" || found != file => return Some(found),
            _ => {}
        }
    }
    // A path through a name of the file itself, such as a type or an import from outside, says nothing of others.
    Some(file)
}

/// The leaves of a `use` tree, each with the name that it has here.
fn leaves_of(tree: &str, base: &[String], found: &mut Vec<(Segments, String)>) {
    let (path, group) = match tree.find('{') {
        Some(at) => {
            (tree[..at].trim_end_matches("::").trim(), Some(&tree[at + 1..tree.rfind('}').unwrap_or(tree.len())]))
        }
        None => (tree, None),
    };
    let (path, alias) = path.split_once(" as ").map_or((path, None), |(p, a)| (p, Some(a.trim().to_owned())));
    let mut full = base.to_vec();
    full.extend(path.split("::").map(str::trim).filter(|s| !s.is_empty()).map(str::to_owned));
    let Some(group) = group else {
        if full.len() > 1 && full.last().is_some_and(|l| l == "self") {
            full.pop();
        }
        let name = alias.or_else(|| full.last().cloned()).unwrap_or_default();
        found.push((full, name));
        return;
    };
    let (mut depth, mut start) = (0, 0);
    for (at, c) in group.char_indices().chain([(group.len(), ',')]) {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                let part = group[start..at].trim();
                if !part.is_empty() {
                    leaves_of(part, &full, found);
                }
                start = at + 1;
            }
            _ => {}
        }
    }
}

/// The code without comments, texts and its own tests.
fn plain(text: &str) -> String {
    let text = text.split("#[cfg(test)]").next().unwrap_or_default();
    let mut out = String::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '/' if chars.peek() == Some(&'/') => while chars.next_if(|&c| c != '\n').is_some() {},
            '/' if chars.peek() == Some(&'*') => {
                let mut last = ' ';
                for c in chars.by_ref() {
                    if last == '*' && c == '/' {
                        break;
                    }
                    last = c;
                }
            }
            '"' => {
                while let Some(c) = chars.next() {
                    match c {
                        '\\' => drop(chars.next()),
                        '"' => break,
                        _ => {}
                    }
                }
                out.push_str("\"\"");
            }
            '\'' => {
                // A character, or the mark of a lifetime.
                let mut ahead = chars.clone();
                match (ahead.next(), ahead.next()) {
                    (Some('\\'), _) => {
                        chars.next();
                        chars.next();
                        while chars.next_if(|&c| c != '\'').is_some() {}
                        chars.next();
                    }
                    (Some(_), Some('\'')) => {
                        chars.next();
                        chars.next();
                    }
                    _ => {}
                }
            }
            c if c.is_whitespace() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}
