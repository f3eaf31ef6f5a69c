#!/usr/bin/env bash
# Measures handheld images and packages against what one would otherwise run, in paired runs.
# Usage: docs/measure-handheld.sh [FOLDER]     FOLDER needs 6 GiB. Prints the table of docs/performance.md.
# Needs openssl and python3.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
source "$here/docs/pairs.sh"
"$decanter" demo demo --no-tour --size 4MiB -q >&2
# A game of 768 MiB: the demo's own with more files.
"$decanter" -q extract 'demo/handheld/Kelp Dash (decrypted).3ds' -o dash --only game >&2
python3 - <<'PY'
import os, random
random.seed(3)
for n in range(8): open(f'dash/game/romfs/big{n}.bin', 'wb').write(random.randbytes(96 << 20))
os.makedirs('many/romfs')
for n in range(50000):
    if n < 250: os.mkdir(f'many/romfs/d{n:03}')
    open(f'many/romfs/d{n % 250:03}/f{n:05}.bin', 'wb').write(random.randbytes(random.randint(100, 12000)))
open('many/header.bin', 'wb').write(open('dash/game/header.bin', 'rb').read())
PY
"$decanter" -q convert dash/game --to ncch -o game.app >&2
"$decanter" -q convert game.app --to cia -o game.cia >&2
"$decanter" -q convert game.cia --to 3ds -o plain.3ds >&2
rm -r dash game.app
# The same under a fixed key, which is zeros: the parts of the first content, encrypted by openssl.
python3 - <<'PY'
import struct, subprocess
image = bytearray(open('plain.3ds', 'rb').read())
at = 0x4000
word = lambda o: struct.unpack_from('<I', image, at + o)[0] * 0x200
ident = image[at + 0x108:at + 0x110][::-1].hex()
for part, start, size in [(1, 0x200, 0x800), (2, word(0x1a0), word(0x1a4)), (3, word(0x1b0), word(0x1b4))]:
    iv = ident + f'{part:02x}' + '00' * 7
    piece = bytes(image[at + start:at + start + size])
    coded = subprocess.run(['openssl', 'enc', '-aes-128-ctr', '-K', '00' * 16, '-iv', iv], input=piece, capture_output=True, check=True).stdout
    image[at + start:at + start + size] = coded
image[at + 0x18f] = 1
open('sealed.3ds', 'wb').write(image)
PY
sync
echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'convert 3ds --to cia, 770 MiB, decrypted / cp' "cp plain.3ds out" "'$decanter' convert plain.3ds --to cia -o out -q"
pair 'the same / sha256sum of the image' "sha256sum plain.3ds" "'$decanter' convert plain.3ds --to cia -o out -q"
pair 'convert 3ds --to cia, encrypted / cp' "cp sealed.3ds out" "'$decanter' convert sealed.3ds --to cia -o out -q"
pair 'the same / sha256sum of the image' "sha256sum sealed.3ds" "'$decanter' convert sealed.3ds --to cia -o out -q"
pair 'decrypt 3ds / openssl enc -aes-128-ctr' "openssl enc -aes-128-ctr -K 00000000000000000000000000000000 -iv 00000000000000000000000000000000 -in sealed.3ds -out out" "'$decanter' decrypt sealed.3ds -o out -q"
pair 'verify a package / sha256sum of it' "sha256sum game.cia" "'$decanter' verify game.cia -q"
pair 'verify an encrypted image / sha256sum of it' "sha256sum sealed.3ds" "'$decanter' verify sealed.3ds -q"
pair 'convert --to ncch, 50,000 files / cp -r' "cp -r many out" "'$decanter' convert many --to ncch -o out -q"
echo
peak() { /usr/bin/time -f '%M KiB peak: '"$1" "${@:2}" -q >/dev/null 2>peak.txt || true; tail -1 peak.txt; }
peak 'convert an encrypted image to a package' "$decanter" convert sealed.3ds --to cia -o peak1
peak 'verify a package' "$decanter" verify game.cia
peak 'convert 50,000 files to a content' "$decanter" convert many --to ncch -o peak2
