#!/usr/bin/env bash
# Measures packages, PS2 classics images and deliveries against openssl, sha1sum and cp, in paired runs on the same bytes.
# Usage: docs/measure-console.sh [FOLDER] [MIB]     needs 6 times so much room; prints the rows of docs/performance.md
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
mib=${2:-512}
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"

key=000102030405060708090a0b0c0d0e0f
{
    echo "ps3.pkg.key = $key"
    for name in consumer.data consumer.meta iv; do echo "ps2.classics.$name = $key"; done
    for name in npd.free npd.title npd.header edat.key.0; do echo "ps3.$name = $key"; done
    echo "DCUT20007 = $key"
    echo "disc = $key"
} > made-up.txt
mkdir game stick
openssl enc -aes-128-ctr -K $key -iv 00000000000000000000000000000000 -in /dev/zero 2>/dev/null | head -c $((mib << 20)) > game/data.bin || true
id=UP0000-DCNT10009_00-MEASURED00000000
"$decanter" convert game --to pkg --content-id $id --finalized --keys made-up.txt -o own.pkg -q
{ printf 'BOOT2 = cdrom0:\\DCUT_200.07;1\r\n'; } > game/SYSTEM.CNF
"$decanter" convert game --to iso --udf -o disc.iso -q
rm game/SYSTEM.CNF
printf 'DCES-00099|0123456789ABCDEF|0001|G' > game/UMD_DATA.BIN
"$decanter" convert game --to iso -o psp.iso -q
rm game/UMD_DATA.BIN
printf 'platform = "ps3"\n[[title]]\ndisc = "psp.iso"\nfinalized = true\n' > psp.toml
printf 'platform = "ps3"\n[[title]]\ndisc = "disc.iso"\nfinalized = true\ncards = []\n' > ps2.toml
"$decanter" convert disc.iso --to ps2-classics --keys made-up.txt -o disc.enc -q

source "$here/docs/pairs.sh"
echo "| ours / other | ours | other | speed of ours, other = 1 |"
echo "| --- | ---: | ---: | ---: |"
pair "extract, finalized package / openssl enc -aes-128-ctr" "openssl enc -aes-128-ctr -K $key -iv $key -in own.pkg -out out" "'$decanter' extract own.pkg --keys made-up.txt --unchecked -o outs -q; rm -rf outs"
pair "the same, held against its SHA-1 meanwhile / openssl enc -aes-128-ctr" "openssl enc -aes-128-ctr -K $key -iv $key -in own.pkg -out out" "'$decanter' extract own.pkg --keys made-up.txt -o outs -q; rm -rf outs"
pair "convert --to pkg --finalized / sha1sum" "sha1sum game/data.bin" "'$decanter' convert game --to pkg --content-id $id --finalized --keys made-up.txt -o out -q"
pair "convert --to pkg / sha1sum" "sha1sum game/data.bin" "'$decanter' convert game --to pkg --content-id $id -o out -q"
pair "convert --to ps2-classics / sha1sum" "sha1sum disc.iso" "'$decanter' convert disc.iso --to ps2-classics --keys made-up.txt -o out -q"
pair "convert ps2-classics --to iso / sha1sum" "sha1sum disc.iso" "'$decanter' convert disc.enc --to iso --keys made-up.txt -o out -q"
pair "recipe make, PSP disc / sha1sum" "sha1sum psp.iso" "'$decanter' recipe make psp.toml --keys made-up.txt -o out -q"
pair "recipe make, PS2 disc / sha1sum" "sha1sum disc.iso" "'$decanter' recipe make ps2.toml --keys made-up.txt -o out -q"
pair "deliver / cp; sync; cmp" "cp game/data.bin stick/data.bin; sync stick/data.bin; cmp game/data.bin stick/data.bin; rm -f stick/*" "'$decanter' deliver game/data.bin --onto stick -q; rm -f stick/*"
