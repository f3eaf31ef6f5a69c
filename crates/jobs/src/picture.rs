//! A disc as a picture: where files, file system, padding and encrypted regions lie, and what of it was read.

pub(crate) mod canvas;

use crate::dump::look::Look;
use crate::dump::map::{Map, State};
use crate::{Failure, Item, Setting, grouped};
use canvas::{Canvas, Colour};
use decanter_core::blueprint::Blueprint;
use decanter_core::native;
use decanter_core::pour::Output;
use decanter_core::source::Bytes;
use decanter_core::tree::Tree;
use decanter_core::{Door, SECTOR};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;

const WIDTH: usize = 1280;
const HEIGHT: usize = 800;
/// Pixels of the margin on all sides.
const MARGIN: usize = 28;
/// Pixels from one cell to the next, the gap included.
const PITCH: usize = 9;
/// Where the cells begin, from the top.
const TOP: usize = 92;
/// Where the legend begins.
const LEGEND: usize = 650;
/// Named stretches below the legend.
const MOST_NOTES: usize = 4;

const PAPER: Colour = [250, 249, 246];
const INK: Colour = [38, 42, 48];
const FAINT: Colour = [112, 118, 126];

/// What a cell stands for, the most important first: what is missing shows even where it is one sector of many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Missing,
    Filled,
    Untried,
    Blank,
    Encrypted,
    Structure,
    FileOdd,
    FileEven,
    Padding,
}

/// Kinds that colour a cell even if they have only one sector of it.
const LOUD: [Kind; 2] = [Kind::Missing, Kind::Filled];
const KINDS: [(Kind, Colour, &str); 9] = [
    (Kind::Missing, [214, 40, 40], "missing: could not be read"),
    (Kind::Filled, [247, 168, 35], "filled from another copy"),
    (Kind::Untried, [70, 74, 82], "not read yet"),
    (Kind::Blank, [176, 190, 205], "filled with zeros by plan"),
    (Kind::Encrypted, [64, 104, 186], "encrypted region"),
    (Kind::Structure, [126, 84, 160], "file system"),
    (Kind::FileOdd, [31, 138, 122], "files, one after the other"),
    (Kind::FileEven, [98, 184, 160], ""),
    (Kind::Padding, [222, 219, 210], "padding: belongs to no file"),
];

/// What is drawn.
pub struct Scene {
    title: String,
    subtitle: String,
    sectors: u64,
    /// Bytes of the content in a sector.
    unit: u64,
    /// Stretches in the order in which they are laid over each other.
    layers: Vec<(Range<u64>, Kind)>,
    /// What the notes are, and the notes.
    notes_are: &'static str,
    notes: Vec<String>,
}

impl Scene {
    /// A dump with what is known of its content.
    pub fn of_dump(map: &Map, look: &Look, target: &Path) -> Self {
        let Look { tree, structure, unit, .. } = look;
        let name = target.file_name().map(native::text).unwrap_or_default();
        let missing = map.missing();
        let subtitle = format!(
            "{} sectors of {} bytes, {} missing, after {} passes",
            grouped(map.sectors),
            map.sector_len,
            grouped(missing),
            map.passes
        );
        let mut scene = Self {
            title: name,
            subtitle,
            sectors: map.sectors,
            unit: *unit,
            layers: Vec::new(),
            notes_are: "missing",
            notes: Vec::new(),
        };
        scene.content(tree, structure);
        scene.states(map);
        for gap in map.gaps().into_iter().take(MOST_NOTES) {
            let hit = tree.files().find(|(_, f)| {
                f.spans.iter().any(|s| s.start < (gap.first + gap.count) * unit && gap.first * unit < s.end)
            });
            let file = hit.map(|(n, _)| format!(" in {}", n.path)).unwrap_or_default();
            let last = gap.first + gap.count - 1;
            scene.notes.push(format!("sectors {} to {}{file}", grouped(gap.first), grouped(last)));
        }
        scene
    }

    /// An opened image. A map that lies beside it tells what was read.
    pub fn of_item(item: &Item) -> Option<Self> {
        let opened = &item.opened;
        let tree = opened.holds.tree.as_ref()?;
        let stored = if opened.holds.tracks.is_empty() { item.source.clone()? } else { opened.holds.volume.clone()? };
        let sectors = stored.len().div_ceil(SECTOR);
        let decanter_core::opened::Identity { kind, title, id, .. } = &opened.identity;
        let known: String = [title, id].into_iter().flatten().map(|text| format!(", {text}")).collect();
        let subtitle = format!("{kind}{known}, {} sectors", grouped(sectors));
        let mut scene = Self {
            title: item.file_name(),
            subtitle,
            sectors,
            unit: SECTOR,
            layers: Vec::new(),
            notes_are: "largest files",
            notes: Vec::new(),
        };
        scene.content(tree, &opened.extent.structure);
        for region in opened.extent.regions.iter().filter(|r| r.encrypted) {
            scene.layers.push((region.range.start / SECTOR..region.range.end.div_ceil(SECTOR), Kind::Encrypted));
        }
        if let Some(map) = item.unfinished.as_ref().filter(|m| m.sectors == sectors) {
            scene.states(map);
        }
        let mut largest: Vec<_> = tree.files().collect();
        largest.sort_by_key(|(_, f)| std::cmp::Reverse(f.len));
        for (node, file) in largest.into_iter().take(MOST_NOTES) {
            let at =
                file.spans.first().map(|s| format!(" from sector {}", grouped(s.start / SECTOR))).unwrap_or_default();
            scene.notes.push(format!("{}{at}, {} bytes", node.path, grouped(file.len)));
        }
        Some(scene)
    }

    fn content(&mut self, tree: &Tree, structure: &[Range<u64>]) {
        let unit = self.unit;
        let sectors = |r: &Range<u64>| r.start / unit..r.end.div_ceil(unit);
        self.layers.push((0..self.sectors, Kind::Padding));
        let mut spans: Vec<&Range<u64>> = tree.files().flat_map(|(_, f)| &f.spans).filter(|s| !s.is_empty()).collect();
        spans.sort_by_key(|s| s.start);
        for (index, span) in spans.into_iter().enumerate() {
            self.layers.push((sectors(span), if index % 2 == 0 { Kind::FileOdd } else { Kind::FileEven }));
        }
        self.layers.extend(structure.iter().map(|r| (sectors(r), Kind::Structure)));
    }

    fn states(&mut self, map: &Map) {
        for run in map.runs() {
            let kind = match run.state {
                State::Read => continue,
                State::Untried => Kind::Untried,
                State::Missing => Kind::Missing,
                State::Filled => Kind::Filled,
                State::Blank => Kind::Blank,
            };
            self.layers.push((run.first..run.first + run.count, kind));
        }
    }

    /// The kind of each stretch, without overlaps: later layers go over earlier ones.
    fn flat(&self) -> Vec<(Range<u64>, Kind)> {
        let mut edges: Vec<u64> =
            self.layers.iter().flat_map(|(r, _)| [r.start, r.end]).filter(|&e| e <= self.sectors).collect();
        edges.push(self.sectors);
        edges.sort_unstable();
        edges.dedup();
        let mut top: Vec<Option<Kind>> = vec![None; edges.len()];
        let place = |edge: u64| edges.partition_point(|&e| e < edge);
        for (range, kind) in &self.layers {
            let (from, to) = (place(range.start), place(range.end.min(self.sectors)));
            top.get_mut(from..to).into_iter().flatten().for_each(|k| *k = Some(*kind));
        }
        edges.windows(2).zip(top).filter_map(|(w, kind)| Some((w[0]..w[1], kind?))).collect()
    }
}

/// Draws a scene as a PNG at `target`.
///
/// # Errors
/// What writing fails with.
pub fn draw(scene: &Scene, target: &Path, what: &str, door: Door<'_>, setting: &Setting<'_>) -> Result<(), Failure> {
    let png = png(scene).map_err(|e| Failure::new(what, e))?;
    setting.write_by(door, Output::new(&Blueprint::of(Arc::new(Bytes(png))), target), what).map(|_| ())
}

/// The bytes of a scene as a PNG.
///
/// # Errors
/// What packing fails with.
pub(crate) fn png(scene: &Scene) -> decanter_core::Result<Vec<u8>> {
    let flat = scene.flat();
    let mut canvas = Canvas::new(WIDTH, HEIGHT, PAPER);
    canvas.text(MARGIN, 24, 26.0, INK, &scene.title);
    canvas.text(MARGIN, 58, 16.0, FAINT, &scene.subtitle);
    let columns = (WIDTH - 2 * MARGIN) / PITCH;
    let rows = (LEGEND - TOP - 30) / PITCH;
    let per_cell = scene.sectors.div_ceil((columns * rows) as u64).max(1);
    let cells = scene.sectors.div_ceil(per_cell) as usize;
    for (cell, kind) in kinds_of_cells(&flat, per_cell, cells).into_iter().enumerate() {
        let (x, y) = (MARGIN + cell % columns * PITCH, TOP + cell / columns * PITCH);
        canvas.block(x, y, PITCH - 1, PITCH - 1, colour(kind));
    }
    let scale = format!(
        "one square is {} ({} KiB); first sector at the top left",
        plural(per_cell, "sector"),
        grouped(per_cell * scene.unit / 1024)
    );
    canvas.text(MARGIN, LEGEND - 22, 13.0, FAINT, &scale);
    legend(&mut canvas, &flat, scene.sectors);
    if !scene.notes.is_empty() {
        canvas.text(WIDTH / 2 + MARGIN, LEGEND - 22, 13.0, FAINT, scene.notes_are);
    }
    for (index, note) in scene.notes.iter().enumerate() {
        canvas.text(WIDTH / 2 + MARGIN, LEGEND + 8 + index * 24, 14.0, INK, note);
    }
    canvas.png()
}

fn colour(kind: Kind) -> Colour {
    KINDS.iter().find(|(k, ..)| *k == kind).map_or(INK, |(_, c, _)| *c)
}

/// What colours each cell: a loud kind if there is any of it, else what has most of it.
fn kinds_of_cells(flat: &[(Range<u64>, Kind)], per_cell: u64, cells: usize) -> Vec<Kind> {
    let mut sums = vec![[0u64; KINDS.len()]; cells];
    for (range, kind) in flat {
        let index = KINDS.iter().position(|(k, ..)| k == kind).unwrap_or(0);
        for cell in range.start / per_cell..range.end.div_ceil(per_cell).min(cells as u64) {
            let (from, to) = ((cell * per_cell).max(range.start), ((cell + 1) * per_cell).min(range.end));
            sums[cell as usize][index] += to - from;
        }
    }
    let pick = |sums: &[u64; KINDS.len()]| {
        let loud = KINDS.iter().zip(sums).find(|((k, ..), n)| **n > 0 && LOUD.contains(k));
        let most = KINDS.iter().zip(sums).max_by_key(|(_, n)| **n);
        loud.or(most).map_or(Kind::Padding, |((k, ..), _)| *k)
    };
    sums.iter().map(pick).collect()
}

fn legend(canvas: &mut Canvas, flat: &[(Range<u64>, Kind)], sectors: u64) {
    let sum = |kind: Kind| flat.iter().filter(|(_, k)| *k == kind).map(|(r, _)| r.end - r.start).sum::<u64>();
    let mut line = 0;
    for (kind, colour, label) in KINDS {
        let mut count = sum(kind);
        if kind == Kind::FileOdd {
            count += sum(Kind::FileEven);
        }
        if label.is_empty() || count == 0 {
            continue;
        }
        let y = LEGEND + 8 + line * 24;
        canvas.block(MARGIN, y + 1, 14, 14, colour);
        if kind == Kind::FileOdd {
            canvas.block(MARGIN + 16, y + 1, 14, 14, self::colour(Kind::FileEven));
        }
        let share = count as f64 * 100.0 / sectors.max(1) as f64;
        canvas.text(MARGIN + 40, y, 14.0, INK, label);
        canvas.text(MARGIN + 290, y, 14.0, FAINT, &format!("{} ({share:.2} %)", plural(count, "sector")));
        line += 1;
    }
}

fn plural(count: u64, what: &str) -> String {
    format!("{} {what}{}", grouped(count), if count == 1 { "" } else { "s" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_missing_sector_colours_its_cell() {
        let mut map = Map::new(10_000, 2048);
        map.set(0, 10_000, State::Read);
        map.set(4_321, 1, State::Missing);
        let look = Look {
            tree: Tree::default(),
            structure: vec![0..40 * SECTOR],
            unit: SECTOR,
            kind: None,
            facts: Vec::new(),
            beyond: None,
            is_video_part: false,
            notices: Vec::new(),
        };
        let scene = Scene::of_dump(&map, &look, Path::new("a.iso"));
        let kinds = kinds_of_cells(&scene.flat(), 100, 100);
        assert_eq!(kinds[43], Kind::Missing);
        assert_eq!((kinds[0], kinds[1], kinds[44]), (Kind::Padding, Kind::Padding, Kind::Padding));
        let fine = kinds_of_cells(&scene.flat(), 10, 1000);
        assert_eq!((fine[3], fine[4], fine[432]), (Kind::Structure, Kind::Padding, Kind::Missing));
    }
}
