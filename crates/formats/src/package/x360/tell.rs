//! What a package says of itself, in words.

use super::header::{Header, hex};
use super::kind;
use crate::record::xbe::{title_id, version};
use decanter_core::Result;
use decanter_core::label::Label;
use decanter_core::opened::Opened;
use decanter_core::seal::Settled;
use decanter_core::source::SourceRef;

const CONSOLE: &str = "a console refuses it: copy or download the package again";

/// What it is, in a few words.
pub(super) fn kind(header: &Header) -> String {
    let (kind, _) = kind::of(header.content_type());
    let signer = header.signer.name();
    format!("Xbox 360 package ({signer}): {kind}")
}

/// Tells titles, ids, versions, licences, pictures.
///
/// # Errors
/// What reading fails with.
pub(super) fn tell(opened: &mut Opened, header: &Header, source: &SourceRef) -> Result<()> {
    let head = &header.head;
    let names = header.names();
    let (name, title) = (names.first().map(|(_, n)| n.clone()).unwrap_or_default(), header.title());
    opened.titled(if name.is_empty() { title.clone() } else { name });
    let of = if opened.identity.title.as_ref() == Some(&title) { String::new() } else { title };
    opened.fact("of title", of);
    let id = header.title_id();
    opened.identified(if id == 0 { String::new() } else { title_id(id) });
    let (_, part) = kind::of(header.content_type());
    if id != 0 {
        opened.belonging(format!("title {id:08X}"), part);
    }
    opened.fact("kind", header.what());
    opened.fact("publisher", header.publisher());
    let described = header.descriptions();
    opened.fact("description", described.first().map(|(_, d)| d.clone()).unwrap_or_default());
    let id = |value: u32| if value == 0 { String::new() } else { format!("{value:08X}") };
    opened.fact("media id", id(head.media_id.get()));
    let versions = |value: u32| if value == 0 { String::new() } else { version(value) };
    opened.fact("version", versions(head.version.get()));
    opened.fact("base version", versions(head.base_version.get()));
    opened.fact("disc", if head.discs > 1 { format!("{} of {}", head.disc, head.discs) } else { String::new() });
    opened.fact("installer", header.installer().unwrap_or_default());
    opened.fact("for", header.licences().join(", "));
    opened.fact("transfer", header.transfer().join(", "));
    opened.fact("signed by", header.console().map(|id| format!("console {id}")).unwrap_or_default());
    opened.fact("signature", "not checked: that takes the keys of who signed it");
    let bytes = |bytes: &[u8]| if bytes.iter().all(|b| *b == 0) { String::new() } else { hex(bytes) };
    opened.fact("console", bytes(&head.console_id));
    opened.fact("profile", bytes(&head.profile_id));
    opened.fact("device", bytes(&head.device_id));
    let parameters = [
        ("content type", format!("{:08X}", header.content_type())),
        ("title id", format!("{:08X}", header.title_id())),
        ("media id", format!("{:08X}", head.media_id.get())),
        ("save game id", format!("{:08X}", head.save_id.get())),
        ("content bytes", head.content_len.get().to_string()),
        ("platform", head.platform.to_string()),
        ("executable", head.executable.to_string()),
        ("layout", head.layout.get().to_string()),
        ("series", bytes(&head.series)),
        ("season", bytes(&head.season)),
    ];
    for (name, value) in parameters.into_iter().filter(|(_, v)| !v.is_empty()) {
        opened.told.parameters.push((name.into(), value));
    }
    for (language, text) in described {
        opened.told.parameters.push((format!("description ({language})"), text));
    }
    let packed = header.pictures(source)?;
    if !names.is_empty() || !packed.is_empty() {
        opened.told.label = Some(Label { titles: names, packed, ..Label::default() });
    }
    match header.holds(source)? {
        _ if head.digest == [0; 20] => opened.proof.untried.push("the header carries no digest of itself".into()),
        Some(true) => opened.proof.settled.push(Settled::holds("digest of the header").by_digests()),
        // The files are proven by themselves, whatever names and pictures are.
        Some(false) => opened.proof.settled.push(Settled::fails(
            "digest of the header",
            "the SHA-1 of the header is another one",
            CONSOLE,
        )),
        None => opened.proof.untried.push("the header is cut short: its digest cannot be compared".into()),
    }
    Ok(())
}
