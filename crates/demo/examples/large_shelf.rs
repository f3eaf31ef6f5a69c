//! A shelf of the hybrid console that is large enough to be timed: `large_shelf DIR MIB PACKAGES FILES`. A base and an add-on of
//! so many MiB each, an update, and a folder with so many small packages; the base has so many files.

use decanter_core::{Error, Result};
use decanter_demo::hybrid::{self, COURIER, Crypto, Wish};
use std::path::Path;

fn put(path: &Path, bytes: &[u8]) -> Result<()> {
    std::fs::write(path, bytes).map_err(|e| Error::io("write", path, e))
}

fn main() -> Result<()> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [folder, mib, packages, files] = words.as_slice() else {
        return Err(Error::Usage("large_shelf DIR MIB PACKAGES FILES".into()));
    };
    let number = |text: &String| text.parse::<u64>().map_err(|e| Error::Usage(e.to_string()));
    let (len, packages, files) = (number(mib)? << 20, number(packages)?, number(files)?);
    let folder = Path::new(folder);
    for inner in ["title", "many", "keys"] {
        let inner = folder.join(inner);
        std::fs::create_dir_all(&inner).map_err(|e| Error::io("make folder", &inner, e))?;
    }
    put(&folder.join("keys/museum.keys"), hybrid::keys::list().as_bytes())?;
    let wish = Wish {
        title_id: COURIER,
        base: COURIER,
        version: 0,
        crypto: Crypto::TitleKey,
        generation: 3,
        names: &[(0, "Kelp Courier")],
        shown: "1.0.0",
        is_for_card: false,
    };
    let update = Wish { title_id: COURIER | 0x800, version: 1 << 16, shown: "1.1.0", ..wish };
    let extra = Wish { title_id: COURIER + 0x1001, names: &[], ..wish };
    put(&folder.join("title/base.nsp"), &hybrid::package(&hybrid::base_with(&wish, len, files)?))?;
    put(&folder.join("title/update.nsp"), &hybrid::package(&hybrid::update_with(&update, len, files)?))?;
    put(&folder.join("title/add-on.nsp"), &hybrid::package(&hybrid::add_on_with(&extra, 0, len)?))?;
    for index in 0..packages {
        let id = COURIER + (index + 1) * 0x2_0000;
        let name = format!("Title {index}");
        let own = Wish { title_id: id, base: id, names: &[(0, &name)], crypto: Crypto::KeyArea, ..wish };
        put(&folder.join(format!("many/{index:03}.nsp")), &hybrid::package(&hybrid::base(&own, 4096)?))?;
    }
    Ok(())
}
