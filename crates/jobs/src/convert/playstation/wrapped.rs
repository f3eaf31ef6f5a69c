//! Any file becomes an NPD-wrapped one, with a free licence.

use super::{CONTENT_ID, PLACEHOLDERS, given_id};
use crate::convert::choice::{Choice, Kind};
use crate::convert::made::Made;
use crate::convert::target::Target;
use crate::convert::{Options, open};
use crate::{Item, Setting};
use decanter_core::blueprint::Blueprint;
use decanter_core::role::Role;
use decanter_core::{Error, Notice, Result};
use decanter_formats::package::ps3::npd;

pub(super) const TARGET: Target = Target {
    id: "edat",
    what: "an NPD-wrapped file",
    extension: "edat",
    made_of: "any file",
    options: &[&CONTENT_ID, &CONSOLE_NAME],
    is_of_bytes: true,
    open: open::anything,
    accepts: |item, _| (item.source.is_some() && item.opened.identity.role != Role::Sheet).then_some(3),
    lay: wrapped,
    ..Target::BASE
};

static CONSOLE_NAME: Choice = Choice::of(
    "console-name",
    "NAME",
    Kind::Text,
    "What the file is called on the console, which its header proves [default: the source's name with .edat]",
);
/// Any file, wrapped with a free licence.
fn wrapped(item: &Item, _: &Target, options: &Options, setting: &Setting<'_>) -> Result<Made> {
    let source = item.source.clone().ok_or_else(|| Error::Usage("a folder has no bytes of its own".into()))?;
    let Some(given) = given_id(options)? else {
        return Err(Error::Usage("say whose it is with --content-id, as UP0001-DCNT10001_00-KELPCOURIER00000".into()));
    };
    let name = options.given.text(&CONSOLE_NAME).map_or_else(|| format!("{}.edat", item.stem), str::to_owned);
    let making = npd::Making::of(&given, &name, &item.keyring)?;
    setting.watch.begin(&format!("hashing {}", item.stem), Some(source.len()));
    let file = npd::compose(source.clone(), &making, setting.watch)?;
    setting.watch.end();
    let mut made = Made::new(Blueprint::of(file), source, "identical bytes after decrypting");
    made.facts.push(("on console".into(), name));
    made.facts.push(("licence".into(), "free".into()));
    made.notices.push(Notice::new(PLACEHOLDERS));
    Ok(made)
}
