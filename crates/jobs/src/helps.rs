//! What helps with a source that a job does nothing with.

use crate::{Item, quoted};
use decanter_core::role::Role;

/// The command that helps with something of this kind, where the one that was typed does not.
pub(crate) fn helps(item: &Item) -> Option<String> {
    let shown = quoted(&item.shown);
    match item.opened.identity.role {
        Role::Patch => Some(format!("decanter patch apply FILE {shown}")),
        Role::Description => Some(format!("decanter verify SOURCE --against {shown}")),
        Role::Record => Some(format!("decanter identify {shown}")),
        _ => None,
    }
}
