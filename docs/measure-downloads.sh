#!/usr/bin/env bash
# Measures cabinets and content packages against cabextract, cp and sha1sum, in paired runs on the same bytes.
# Usage: docs/measure-downloads.sh [FOLDER] [MIB]     needs 8 times so much room; prints the rows of docs/performance.md
# Needs cabextract and gcab. The data are the toolchain's own programs and libraries, one behind the other.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
mib=${2:-256}
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
cargo build --release --locked --manifest-path "$here/Cargo.toml" -p decanter-demo --example cabinet >&2
decanter=$here/target/release/decanter
cd "$folder"
tar cf - -C "$(rustc --print sysroot)" . 2>/dev/null | head -c $((mib << 20)) > data.bin || true
mkdir disc
split -n 8 data.bin disc/part.
"$decanter" convert disc --to xdvdfs -o disc.iso -q >&2
"$decanter" convert disc.iso --to god -o package -q >&2
"$decanter" extract package -o plain -q >&2
"$here/target/release/examples/cabinet" lzx.cab data.bin
gcab -c -z mszip.cab data.bin

source "$here/docs/pairs.sh"
echo "| ours / other | ours | other | speed of ours, other = 1 |"
echo "| --- | ---: | ---: | ---: |"
pair "extract, LZX cabinet / cabextract, then cp of the result" "cabextract -q -d out lzx.cab; cp out/data.bin out/copy" "'$decanter' extract lzx.cab -o out -q"
pair "extract, MSZIP cabinet / cabextract" "cabextract -q -d out mszip.cab" "'$decanter' extract mszip.cab -o out -q"
pair "extract, package with a disc, --unchecked / cp -r of the files" "cp -r plain out" "'$decanter' extract package -o out --unchecked -q"
pair "extract, package with a disc, every block checked / sha1sum of the data" "sha1sum package.data/*" "'$decanter' extract package -o out -q"
pair "verify, package with a disc / sha1sum of the data" "sha1sum package.data/*" "'$decanter' verify package -q"
pair "convert --to god / sha1sum of the image" "sha1sum disc.iso" "'$decanter' convert disc.iso --to god -o out -q; rm -rf out.data"
echo
for job in "extract lzx.cab -o peak" "extract package -o peak" "convert disc.iso --to god -o peak" "convert plain --to stfs -o peak"; do
    rm -rf peak peak.data
    /usr/bin/time -f "%M KiB peak: $job" "$decanter" $job -q 2>&1 >/dev/null | tail -1
done
