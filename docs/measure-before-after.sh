#!/usr/bin/env bash
# Holds one build of Decanter against another: each row of docs/performance.md as a pair of the same command.
# Usage: docs/measure-before-after.sh BEFORE [FOLDER]   BEFORE: the program of the commit before; FOLDER needs 6 GiB.
# The ratio is the speed of this checkout, that of BEFORE being 1. Needs python3, and xorriso, mkfs.fat and mkntfs for their rows.
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
before=$(realpath "$1")
folder=$(mktemp -d "${2:-/tmp}/decanter-measure.XXXXXX")
trap 'rm -rf "$folder"' EXIT
[ -n "${now:-}" ] || { cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2; now=$here/target/release/decanter; }
cd "$folder"
source "$here/docs/pairs.sh"
# both NAME WORDS...: the same words to both programs.
both() { pair "$1" "'$before' $2" "'$now' $2"; }

"$now" demo shelf --size 1GiB --dense --no-tour -q >&2
ps3="shelf/Kelp Courier.iso"
python3 - <<'PY'
import os, random, struct, zipfile, zlib
random.seed(5)
os.mkdir('mix')
for i in range(5000):
    where = f'mix/{i // 500:02d}'; os.makedirs(where, exist_ok=True)
    kind = ['txt', 'bin', 'gb', 'z64', 'zip', 'iso', 'png', 'prg', 'cue', 'sfo'][i % 10]; name = f'{where}/f{i:05d}.{kind}'
    if kind == 'zip':
        with zipfile.ZipFile(name, 'w', zipfile.ZIP_DEFLATED) as z: z.writestr('a.txt', 'tide' * 500); z.writestr('b.bin', random.randbytes(5000))
        continue
    data = {
        'txt': lambda: b'the tide is out %d\n' % i * random.randint(1, 200), 'bin': lambda: random.randbytes(random.randint(100, 200000)),
        'gb': lambda: random.randbytes(32768), 'z64': lambda: b'\x80\x37\x12\x40' + random.randbytes(131068),
        'iso': lambda: bytes(32768) + b'\1CD001\1' + bytes(2041) + random.randbytes(20480), 'png': lambda: b'\x89PNG\r\n\x1a\n' + random.randbytes(3000),
        'prg': lambda: struct.pack('<HHH', 0x801, 0x80b, 10) + b'\x9e2061\0\0\0' + random.randbytes(3000),
        'cue': lambda: b'FILE "x.bin" BINARY\n  TRACK 01 MODE1/2352\n    INDEX 01 00:00:00\n', 'sfo': lambda: b'\0PSF' + random.randbytes(500),
    }[kind]()
    open(name, 'wb').write(data)
os.mkdir('files')
for n in range(200): open(f'files/f{n}.dat', 'wb').write(zlib.compress(random.randbytes(200_000)) + b'tide and brine ' * 20_000)
os.mkdir('roms')
with open('roms.dat', 'w') as dat:
    dat.write('<?xml version="1.0"?>\n<datafile><header><name>Tide</name></header>\n')
    for n in range(400):
        data = random.randbytes(200_000); open(f'roms/{n}.gb', 'wb').write(data)
        dat.write(f'<game name="{n}"><rom name="{n}.gb" size="{len(data)}" crc="{zlib.crc32(data):08x}"/></game>\n')
    dat.write('</datafile>\n')
PY
"$now" convert files --to iso -o plain.iso -q >&2
"$now" convert files --to xdvdfs -o game.iso -q >&2
"$now" convert plain.iso --to cd-raw -o cd.bin -q >&2
"$now" convert plain.iso --to zst --level 3 -o plain.zst -q >&2
"$now" convert plain.iso --to cso --level 6 -o plain.cso -q >&2
"$now" convert plain.iso --to chd --codecs zlib -o plain.chd -q >&2
echo "| command | now | before | speed of now, before = 1 |"
echo "| --- | ---: | ---: | ---: |"
pair 'cold start, twenty times' "for i in \$(seq 20); do '$before' --version; done" "for i in \$(seq 20); do '$now' --version; done"
both 'identify a folder of 5,000 mixed files' 'identify mix'
both 'identify one image, 1 GiB' "identify '$ps3'"
both 'list' "list '$ps3'"
both 'decrypt, 1 GiB' "decrypt '$ps3' -o out -q"
both 'extract, 1 GiB' "extract '$ps3' -o out -q"
both 'digest, all four, 1 GiB' "digest '$ps3'"
both 'verify, 1 GiB' "verify '$ps3' --against 'shelf/Kelp Courier.ird'"
both 'verify a CD' 'verify cd.cue'
both 'verify 400 ROMs against a DAT' 'verify roms --against roms.dat'
both 'convert --to iso, of files' 'convert files --to iso -o out -q'
both 'convert --to xdvdfs' 'convert game.iso --to xdvdfs -o out -q'
both 'convert --to cd-raw' 'convert plain.iso --to cd-raw -o out -q --replace'
both 'convert --to zst --level 3' 'convert plain.iso --to zst --level 3 -o out -q'
both 'convert --to cso --level 6' 'convert plain.iso --to cso --level 6 -o out -q'
both 'convert --to zso' 'convert plain.iso --to zso -o out -q'
both 'convert --to chd, zlib' 'convert plain.iso --to chd --codecs zlib -o out -q'
both 'convert --to chd of a CD, flac and zlib' 'convert cd.cue --to chd --codecs flac,zlib -o out -q'
both 'convert zst --to iso' 'convert plain.zst --to iso -o out -q'
both 'convert cso --to iso' 'convert plain.cso --to iso -o out -q'
both 'convert chd --to iso' 'convert plain.chd --to iso -o out -q'
both 'convert --to cia' "convert 'shelf/handheld/Kelp Dash.3ds' --to cia --keys shelf/handheld/keys -o out -q"
both 'convert --to hdf' 'convert files --to hdf -o out -q'
both 'patch apply, bps' "patch apply shelf/drawer/Fogbell.gb shelf/drawer/Fogbell.bps -o out -q"
both 'patch make, bps' "patch make shelf/drawer/Fogbell.gb 'shelf/drawer/Fogbell (Deep Water).gb' -o out -q"
