#!/usr/bin/env bash
# Measures the release build against what one would otherwise run, in paired runs on the same files.
# Usage: docs/measure.sh [FOLDER] [SIZE]     needs 8 times SIZE of room; prints the table of docs/performance.md
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
size=${2:-2GiB}
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
"$decanter" demo discs --size "$size" --dense --no-tour -q >&2
rm -f discs/*damaged* discs/*short* discs/*.zip
"$decanter" decrypt "discs/Kelp Courier.iso" -o plain.iso -q >&2
"$decanter" extract plain.iso -o tree -q >&2

source "$here/docs/pairs.sh"

echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'decrypt / cp' "cp 'discs/Kelp Courier.iso' out" "'$decanter' decrypt 'discs/Kelp Courier.iso' -o out -q"
pair 'decrypt / cp, then sync of the file' "cp 'discs/Kelp Courier.iso' out; sync out" "'$decanter' decrypt 'discs/Kelp Courier.iso' -o out -q"
pair 'extract / 7z x' "7z x -bd -y -oout plain.iso" "'$decanter' extract plain.iso -o out -q"
pair 'extract / cp -r of the tree' "cp -r tree out" "'$decanter' extract plain.iso -o out -q"
pair 'extract / cp -r of the tree, then sync -f' "cp -r tree out; sync -f out" "'$decanter' extract plain.iso -o out -q"
pair 'digest, all four / md5sum' "md5sum plain.iso" "'$decanter' digest plain.iso -q"
pair 'digest, all four / sha1sum' "sha1sum plain.iso" "'$decanter' digest plain.iso -q"
pair 'digest, all four / sha256sum' "sha256sum plain.iso" "'$decanter' digest plain.iso -q"
pair 'verify against a description / md5sum' "md5sum plain.iso" "'$decanter' verify 'discs/Kelp Courier.iso' -q"
