#!/usr/bin/env bash
# Measures drives in hunks against what one would otherwise run, in paired runs.
# Usage: docs/measure-drives.sh [FOLDER]     FOLDER needs 14 GiB. Prints the table of docs/performance.md.
# Needs zstd, pigz, python3, mkfs.fat (dosfstools) and mcopy (mtools).
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
folder=$(mktemp -d "${1:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
cd "$folder"
source "$here/docs/pairs.sh"
# 256 MiB that pack as programs and data do: noise, text and tables in turn.
python3 - <<'PY'
import random
random.seed(7)
words = [bytes(random.choices(b'abcdefghijklmnopqrstuvwxyz', k=random.randint(2, 9))) for _ in range(4000)]
with open('data.img', 'wb') as out:
    for n in range(64):
        if n % 4 == 0: out.write(random.randbytes(4 << 20))
        elif n % 4 == 3: out.write(b''.join((i * 7 + n & 0xffff).to_bytes(4, 'little') for i in range(1 << 20)))
        else:
            text = b' '.join(random.choices(words, k=800000))
            out.write(text[:4 << 20].ljust(4 << 20))
PY
"$decanter" -q convert data.img --to chd --codecs zlib -o zlib.chd >&2
"$decanter" -q convert data.img --to chd --codecs zstd -o zstd.chd >&2
pigz -9 -c data.img > data.gz
# A drive of 8 GiB with 150 MiB of other files and one folder of 10 MiB.
truncate -s 8G drive.img
mkfs.fat -F 32 drive.img > /dev/null
python3 - <<'PY'
import os, random
random.seed(9)
os.makedirs('tree/OTHER'); os.makedirs('tree/GAMES/FOGBELL')
for n in range(150): open(f'tree/OTHER/F{n:03}.DAT', 'wb').write(random.randbytes(1 << 20))
for n in range(40): open(f'tree/GAMES/FOGBELL/L{n:02}.DAT', 'wb').write(random.randbytes(1 << 18))
PY
mcopy -s -i drive.img tree/* ::/
"$decanter" -q convert drive.img --to chd --codecs zlib -o drive.chd >&2
rm drive.img
sync
echo "| ours / other | ours | other | speed of ours, other = 1 (median of pairs) |"
echo "| --- | ---: | ---: | ---: |"
pair 'chd (zlib) --to img, 256 MiB, all cores / one core' "taskset -c 0 '$decanter' convert zlib.chd --to img -o out -q" "'$decanter' convert zlib.chd --to img -o out -q"
pair 'chd (zlib) --to img / pigz -d of the same bytes' "pigz -dc data.gz > out" "'$decanter' convert zlib.chd --to img -o out -q"
pair 'img --to chd (zstd 3, 4 KiB hunks) / zstd -T0 -3' "zstd -q -T0 -3 -f data.img -o out" "'$decanter' convert data.img --to chd --codecs zstd --level 3 -o out -q"
pair 'the same with hunks of 64 KiB / zstd -T0 -3' "zstd -q -T0 -3 -f data.img -o out" "'$decanter' convert data.img --to chd --codecs zstd --level 3 --hunk 64KiB -o out -q"
pair 'the same with hunks of 64 KiB, level 12 / zstd -T0 -12' "zstd -q -T0 -12 -f data.img -o out" "'$decanter' convert data.img --to chd --codecs zstd --level 12 --hunk 64KiB -o out -q"
pair 'one folder of 10 MiB out of an 8 GiB drive / cp -r of it' "cp -r tree/GAMES/FOGBELL out" "'$decanter' extract drive.chd::GAMES/FOGBELL -o out -q"
echo
peak() { /usr/bin/time -f '%M KiB peak: '"$1" "${@:2}" -q >/dev/null 2>peak.txt || true; tail -1 peak.txt; }
peak 'img to chd' "$decanter" convert data.img --to chd --codecs zstd -o peak1
peak 'chd to img' "$decanter" convert zlib.chd --to img -o peak2
peak 'one folder out of an 8 GiB drive' "$decanter" extract drive.chd::GAMES/FOGBELL -o peak3
