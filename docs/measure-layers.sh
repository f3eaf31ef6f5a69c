#!/usr/bin/env bash
# Measures packages of the fourth generation against openssl and sha256sum, in paired runs on the same bytes.
# Usage: docs/measure-layers.sh [FOLDER] [MIB]     needs 8 times so much room, and 14 GiB; prints the rows of docs/performance.md
# The data are the toolchain's own programs and libraries. "openssl enc" has no XTS: the counter mode of the same cipher, which is as fast, stands for it.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
mib=${2:-256}
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
tar cf - -C "$(rustc --print sysroot)" . 2>/dev/null | head -c $((mib << 20)) > data.bin || true
mkdir base update
split -n 16 data.bin base/part.
head -c $((mib << 18)) data.bin > some.bin
split -n 4 some.bin update/part.
id=UP0000-DCNT40001_00-MEASURE000000000
make() { "$decanter" convert "$1" --to ps4-pkg --content-id $id --set TITLE=Measure --set "CATEGORY=$3" --set "APP_VER=$4" -o "$2" -q "${@:5}" 2>/dev/null >&2; }
make base base.pkg gd 01.00
make base deflated.pkg gd 01.00 --deflated
make update update.pkg gp 01.08
"$decanter" merge base.pkg update.pkg -o merged.pkg -q 2>/dev/null >&2

source "$here/docs/pairs.sh"
key=000102030405060708090a0b0c0d0e0f
echo "| ours / other | ours | other | speed of ours, other = 1 |"
echo "| --- | ---: | ---: | ---: |"
pair "extract, every block checked / openssl enc -aes-128-ctr" "openssl enc -aes-128-ctr -K $key -iv $key -in data.bin -out out" "'$decanter' extract base.pkg -o out -q"
pair "extract, --unchecked / the same" "openssl enc -aes-128-ctr -K $key -iv $key -in data.bin -out out" "'$decanter' extract base.pkg -o out --unchecked -q"
pair "extract, deflated, every block checked / the same" "openssl enc -aes-128-ctr -K $key -iv $key -in data.bin -out out" "'$decanter' extract deflated.pkg -o out -q"
pair "merge / sha256sum, twice, of what is written" "sha256sum merged.pkg; sha256sum merged.pkg" "'$decanter' merge base.pkg update.pkg -o out -q"
pair "convert --to ps4-pkg / the same" "sha256sum base.pkg; sha256sum base.pkg" "'$decanter' convert base --to ps4-pkg --content-id $id --set CATEGORY=gd --set APP_VER=01.00 -o out -q"
pair "verify / sha256sum, twice" "sha256sum base.pkg; sha256sum base.pkg" "'$decanter' verify base.pkg -q"
echo
mkdir many more
for i in $(seq 0 99); do mkdir many/$i; for j in $(seq 0 999); do echo "$i $j" > many/$i/$j; done; done
for j in $(seq 0 999); do echo "new $j" > more/new$j; done
make many many.pkg gd 01.00
make more more.pkg gp 01.08
for job in "extract base.pkg -o peak" "extract deflated.pkg -o peak" "verify base.pkg" "merge base.pkg update.pkg -o peak" "identify many.pkg" "merge many.pkg more.pkg -o peak" "verify many.pkg"; do
    rm -rf peak
    /usr/bin/time -f "%M KiB peak, %e s: $job" "$decanter" $job -q 2>&1 >/dev/null | tail -1
done
