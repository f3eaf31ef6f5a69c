#!/usr/bin/env bash
# Measures compression on three kinds of data, against zstd on all cores, in paired runs on the same files.
# Usage: docs/measure-packing.sh [FOLDER] [MIB]     needs 4 times so much room; prints the rows of docs/performance.md
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
mib=${2:-512}
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"

# Noise that is the same every time; half of it zeros, MiB by MiB; and the files of this system, one behind the other.
noise() { openssl enc -aes-128-ctr -K 0123456789abcdef0123456789abcdef -iv 00000000000000000000000000000000 -in /dev/zero 2>/dev/null | head -c "$1" || true; }
noise $((mib << 20)) > noise.bin
{ for _ in $(seq $((mib / 2))); do head -c 1M; head -c 1M /dev/zero; done; } < noise.bin > half.bin
{ find /usr/lib /usr/bin /usr/share -type f -print0 2>/dev/null | sort -z | xargs -0 cat 2>/dev/null | head -c $((mib << 20)); } > files.bin || true

source "$here/docs/pairs.sh"
echo "| ours / other | data | ours | other | speed of ours, other = 1 |"
echo "| --- | --- | ---: | ---: | ---: |"
for data in noise half files; do
    pair "--to zst --level 3 / zstd -T0 -3 | $data" "zstd -q -T0 -3 $data.bin -o out" "'$decanter' convert $data.bin --to zst --level 3 -o out -q"
    pair "--to zst --level 3 --jobs 1 / zstd -T1 -3 | $data" "zstd -q -T1 -3 $data.bin -o out" "'$decanter' convert $data.bin --to zst --level 3 --jobs 1 -o out -q"
    pair "--to chd, zstd, level 3, hunks of 64 KiB / zstd -T0 -3 | $data" "zstd -q -T0 -3 $data.bin -o out" "'$decanter' convert $data.bin --to chd --medium drive --codecs zstd --level 3 --hunk 64KiB -o out -q"
done
