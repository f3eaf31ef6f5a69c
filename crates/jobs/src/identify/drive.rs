//! What stands on a PC drive, partition by partition.

use crate::{Item, Setting, traces};
use decanter_core::opened::Fact;
use decanter_core::role::{Medium, Role};
use decanter_core::{Error, Opened};

/// What stands on a PC drive, partition by partition.
pub(super) fn facts(item: &Item, setting: &Setting<'_>) -> Vec<Fact> {
    let mut facts = Vec::new();
    match item.opened.identity.role {
        Role::Image(Medium::Volume) => facts.extend(volume(&item.opened, "")),
        Role::Image(Medium::Drive) => {
            for (node, file) in item.opened.holds.tree.iter().flat_map(|t| t.files()) {
                // One that cannot be there is told as damage of the drive.
                let Ok(source) = file.source() else { continue };
                let names = [node.path.clone()];
                let opener = setting.opener(&item.keyring).with_names(&names).at_depth(item.around.len() + 1);
                match opener.open_among(source.clone(), &|f| f.role() != Role::Image(Medium::Drive)) {
                    Ok(opened) => facts.extend(volume(&opened, &format!("{}: ", node.path))),
                    // The row of the partition says that nothing is known there.
                    Err(Error::NotUnderstood { .. }) => {}
                    Err(e) => facts.push(Fact { name: "unreadable", value: format!("{}: {e}", node.path) }),
                }
            }
        }
        _ => {}
    }
    facts
}

/// What stands on a volume; `of` names it, if it is one of several.
fn volume(opened: &Opened, of: &str) -> Vec<Fact> {
    let mut facts = Vec::new();
    let mut add = |name: &'static str, text: String| facts.push(Fact { name, value: format!("{of}{text}") });
    if !of.is_empty() {
        let said: Vec<&str> = ["label", "used"].iter().filter_map(|n| opened.get(n)).collect();
        add("holds", format!("{} {}", opened.identity.kind, said.join(", ")));
    }
    let Some(tree) = &opened.holds.tree else { return facts };
    let systems = traces::systems(tree);
    if !systems.is_empty() {
        add("system", systems.join(", "));
    }
    if let Some((folder, why)) = traces::program_folder(tree) {
        add("program", format!("{folder} ({why})"));
    }
    facts
}
