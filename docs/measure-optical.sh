#!/usr/bin/env bash
# Measures conversions, CD checks, matching and dumps against what one would otherwise run, in paired runs.
# Usage: docs/measure-optical.sh IMAGE [FOLDER]     IMAGE: any ISO of 1 to 2 GiB with believable content, such as one that
# xorriso makes of /usr; FOLDER needs six times its size. Prints the table of docs/performance.md. Needs zstd and unzip.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
image=$(realpath "$1")
folder=$(mktemp -d "${2:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
source "$here/docs/pairs.sh"

echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'convert --to zst --level 3 / zstd -T0 -3' "zstd -T0 -3 -q -f '$image' -o out" "'$decanter' convert '$image' --to zst --level 3 -o out -q"
zstd -T0 -3 -q "$image" -o theirs.zst; "$decanter" convert "$image" --to zst --level 3 -o ours.zst -q >&2
sizes="level 3: $(stat -c %s ours.zst) / $(stat -c %s theirs.zst)"
pair 'convert zst --to iso / zstd -d' "zstd -d -q -f theirs.zst -o out" "'$decanter' convert ours.zst --to iso -o out -q"
rm -f out ours.zst theirs.zst
head -c $((256 << 20)) "$image" > part.bin
pair 'convert --to zst --level 12 / zstd -T0 -12, 256 MiB' "zstd -T0 -12 -q -f part.bin -o out" "'$decanter' convert part.bin --to zst --level 12 -o out -q"
zstd -T0 -12 -q part.bin -o theirs.zst; "$decanter" convert part.bin --to zst --level 12 -o ours.zst -q >&2
sizes="$sizes; level 12: $(stat -c %s ours.zst) / $(stat -c %s theirs.zst)"
rm -f out part.bin ours.zst theirs.zst
pair 'dump of a perfect drive / dd bs=1M' "dd if='$image' of=out bs=1M status=none" "rm -f out.map; '$decanter' dump '$image' -o out -q"
rm -f out out.map
head -c $((640 << 20)) "$image" > cd.iso
"$decanter" convert cd.iso --to cd-raw -o cd.bin -q >&2; rm cd.iso
pair 'verify of a CD (sync, EDC, ECC, CRC-32, SHA-1) / md5sum' "md5sum cd.bin" "'$decanter' verify cd.bin -q"
rm -f cd.bin cd.cue
mkdir -p game/levels; for n in 1 2 3 4; do head -c $((200 << 20)) /dev/urandom > game/f$n.dat; done
for n in $(seq 500); do head -c 100000 /dev/urandom > game/levels/$n.dat; done
"$decanter" convert game --to xdvdfs -o disc.iso -q >&2; rm -r game
pair 'convert --to xdvdfs / cp of what it writes' "cp disc.iso out" "'$decanter' convert disc.iso --to xdvdfs -o out -q"
rm -f out disc.iso
python3 - <<'PY'
import os, random, zlib, hashlib, zipfile
random.seed(5); os.mkdir('roms')
def game(name, size, crc, sha1):
    return f'<game name="{name}"><rom name="{name}.bin" size="{size}" crc="{crc:08x}" sha1="{sha1}"/></game>\n'
with open('big.dat', 'w') as dat:
    dat.write('<?xml version="1.0"?>\n<datafile>\n<header><name>Measured</name></header>\n')
    for i in range(10000):
        data = random.randbytes(256) * random.randint(8, 256)
        with zipfile.ZipFile(f'roms/{i}.zip', 'w', zipfile.ZIP_DEFLATED) as z: z.writestr(f'Game {i}.bin', data)
        dat.write(game(f'Game {i}', len(data), zlib.crc32(data), hashlib.sha1(data).hexdigest()))
    for i in range(10000, 200000):
        dat.write(game(f'Game {i}', random.randint(1000, 9999999), random.getrandbits(32), f'{random.getrandbits(160):040x}'))
    dat.write('</datafile>\n')
PY
pair '10,000 zipped files against a DAT file of 200,000 / unzip -t' "unzip -tqq 'roms/*.zip'" "'$decanter' verify roms --against big.dat -q"
pair 'identify a DAT file of 200,000 / cp' "cp big.dat out" "'$decanter' identify big.dat -q"
echo; echo "Sizes in bytes, ours / zstd: $sizes"
peak() { /usr/bin/time -f '%M KiB peak: '"$1" "${@:2}" -q >/dev/null 2>peak.txt || true; tail -1 peak.txt; }
peak 'convert --to zst --level 12' "$decanter" convert "$image" --to zst --level 12 -o peak.zst
peak 'verify of 10,000 files' "$decanter" verify roms --against big.dat
peak 'dump' "$decanter" dump "$image" -o peak.iso
