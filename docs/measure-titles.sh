#!/usr/bin/env bash
# Measures titles of the hybrid console against what one would otherwise run, in paired runs.
# Usage: docs/measure-titles.sh [FOLDER]     FOLDER needs 10 GiB. Prints the table of docs/performance.md.
# Needs openssl.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
cargo build --release --locked --manifest-path "$here/Cargo.toml" -p decanter-demo --example large_shelf >&2
decanter=$here/target/release/decanter
cd "$folder"
source "$here/docs/pairs.sh"
# A base of 1 GiB with 50,000 small files, an update of it, an add-on of 1 GiB, all under title keys; 500 small packages.
"$here/target/release/examples/large_shelf" . 1024 500 50000 >&2
"$decanter" -q merge title --to nsp -o whole.nsp >/dev/null 2>&1
sync
echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'merge of 2.1 GB in three packages / sha256sum of them' "sha256sum title/*" "'$decanter' merge title --to nsp -o out -q"
pair 'merge --unchecked / cp, then sync of the files' "mkdir out; cp title/* out; sync out/*" "'$decanter' merge title --to nsp -o out --unchecked -q"
pair 'merge --standard-crypto / openssl enc -aes-128-ctr, then sync' "openssl enc -aes-128-ctr -K 00000000000000000000000000000000 -iv 00000000000000000000000000000000 -in whole.nsp -out out; sync out" "'$decanter' merge title --to nsp --standard-crypto -o out -q"
pair 'verify of the packages / sha256sum of them' "sha256sum title/*" "'$decanter' verify title -q"
pair 'verify of the merged file, the update over its base too / sha256sum of it' "sha256sum whole.nsp" "'$decanter' verify whole.nsp --keys keys -q"
"$decanter" -q extract title/update.nsp --with title/base.nsp --only update/romfs -o tree >/dev/null 2>&1
pair 'extract the RomFS of the update over its base, 50,000 files / cp -r of it, then sync -f' "cp -r tree out; sync -f out" "'$decanter' extract title/update.nsp --with title/base.nsp --only update/romfs -o out -q"
pair 'the same --unchecked' "cp -r tree out; sync -f out" "'$decanter' extract title/update.nsp --with title/base.nsp --only update/romfs -o out --unchecked -q"
rm -rf tree
echo
echo "identify of 500 packages, warm:"
for _ in 1 2 3; do /usr/bin/time -f '%e s, %M KiB' "$decanter" identify many -q 2>&1 >/dev/null | tail -1; done
peak() { /usr/bin/time -f '%M KiB peak: '"$1" "${@:2}" -q >/dev/null 2>peak.txt || true; tail -1 peak.txt; }
peak 'merge' "$decanter" merge title --to nsp -o peak.nsp
peak 'verify' "$decanter" verify whole.nsp --keys keys
peak 'extract 50,000 files' "$decanter" extract title/update.nsp --with title/base.nsp --only update/romfs -o peak
