#!/usr/bin/env bash
# Measures identify of zipped ROMs, patches and archives against what one would otherwise run, in paired runs.
# Usage: docs/measure-cartridges.sh [FOLDER]     FOLDER needs 1 GiB. Prints the table of docs/performance.md.
# Needs unzip, 7z, zstd and python3.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
source "$here/docs/pairs.sh"
python3 - <<'PY'
import os, random, struct, zipfile
random.seed(7); os.mkdir('roms'); os.mkdir('loose')
def game(n):
    size = random.choice([32, 64, 128, 256, 512, 1024])*1024
    # Believable content: code and graphics pack to about half.
    words = [random.randbytes(random.randint(2, 12)) for _ in range(600)]
    body = bytearray(b''.join(random.choices(words, k=size//7))[:size].ljust(size, b'\xff'))
    body[0x100:0x150] = bytes(0x50); body[0x100:0x104] = b'\0\xc3\x50\x01'; title = f'GAME {n}'.encode()
    body[0x134:0x134+len(title)] = title; body[0x147] = 0x1b; body[0x148] = (size//32768).bit_length()-1; body[0x149] = 2
    x = 0
    for b in body[0x134:0x14d]: x = (x-b-1) & 255
    body[0x14d] = x; body[0x14e:0x150] = struct.pack('>H', sum(body) & 0xffff)
    return bytes(body)
for n in range(5000):
    with zipfile.ZipFile(f'roms/Game {n}.zip', 'w', zipfile.ZIP_DEFLATED) as z: z.writestr(f'Game {n}.gb', game(n))
for n in range(200): open(f'loose/Game {n}.gb', 'wb').write(game(n))
# A ROM of 32 MiB; the new one has blocks moved, put in, taken out and changed.
old = bytearray(random.randbytes(24 << 20)) + b''.join(random.choices([random.randbytes(9) for _ in range(99)], k=(8 << 20)//9+9))
old = old[:32 << 20]; new = bytearray(old)
for _ in range(300): at = random.randrange(len(new)-9); new[at:at+8] = random.randbytes(8)
new[1 << 20:1 << 20] = random.randbytes(5000); del new[9 << 20:(9 << 20)+70000]
new[20 << 20:20 << 20] = new[3 << 20:(3 << 20)+200000]
new = (new + random.randbytes(1 << 20))[:32 << 20]
open('old.bin', 'wb').write(old); open('new.bin', 'wb').write(new)
near = bytearray(old)
for _ in range(2000): at = random.randrange((16 << 20)); near[at:at+12] = random.randbytes(12)
open('near.bin', 'wb').write(near); open('noise.bin', 'wb').write(random.randbytes(32 << 20))
small = bytes(old[:16 << 20]); open('small.bin', 'wb').write(small); open('small2.bin', 'wb').write(near[:16 << 20])
PY
7z a -ms=on -bso0 -bsp0 solid.7z loose/*.gb
"$decanter" patch make old.bin near.bin --format ups -o near.ups -q >&2
"$decanter" patch make old.bin new.bin -o new.bps -q >&2
"$decanter" patch make small.bin small2.bin --format ips -o small.ips -q >&2

echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'identify 5,000 zipped ROMs / unzip -t of them' "unzip -tqq 'roms/*.zip'" "'$decanter' identify roms --json"
pair 'identify 200 ROMs in a solid 7z archive / 7z t' "7z t -bso0 -bsp0 solid.7z" "'$decanter' identify solid.7z --json"
pair 'patch apply, BPS, 32 MiB / cp' "cp old.bin out" "'$decanter' patch apply old.bin new.bps -o out -q"
pair 'patch apply, UPS, 32 MiB / cp' "cp old.bin out" "'$decanter' patch apply old.bin near.ups -o out -q"
pair 'patch apply, IPS, 16 MiB / cp' "cp small.bin out" "'$decanter' patch apply small.bin small.ips -o out -q"
pair 'patch make, BPS, 32 MiB, moved blocks / zstd -12 --long=27 --patch-from' "zstd -12 --long=27 -q -f --patch-from=old.bin new.bin -o out" "'$decanter' patch make old.bin new.bin -o out -q"
pair 'patch make, BPS, 32 MiB of noise / zstd -3 --patch-from' "zstd -3 --long=27 -q -f --patch-from=old.bin noise.bin -o out" "'$decanter' patch make old.bin noise.bin -o out -q"
zstd -19 --long=27 -q -f --patch-from=old.bin new.bin -o theirs
echo; echo "Size of the patch with moved blocks, ours / zstd --patch-from: $(stat -c %s new.bps) / $(stat -c %s theirs)"
peak() { /usr/bin/time -f '%M KiB peak: '"$1" "${@:2}" -q >/dev/null 2>peak.txt || true; tail -1 peak.txt; }
peak 'patch make, moved blocks' "$decanter" patch make old.bin new.bin -o peak1
peak 'patch make, noise' "$decanter" patch make old.bin noise.bin -o peak2
peak 'patch apply, BPS' "$decanter" patch apply old.bin new.bps -o peak3
peak 'identify of 5,000 zipped ROMs' "$decanter" identify roms
