#!/usr/bin/env bash
# Measures what docs/performance.md says of repairing: two copies of a dump with some places wrong in each, against copying one of
# them. Usage: docs/measure-repair.sh [PROGRAM] [MIB]     needs python3, GNU time, crc32 and sha1 by python
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
decanter=$(realpath "${1:-$here/target/release/decanter}")
mib=${2:-256}
. "$here/docs/pairs.sh"
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cd "$folder"
python3 - "$mib" <<'PY'
import hashlib, os, sys, zlib
mib = int(sys.argv[1])
crc, sha1 = 0, hashlib.sha1()
good, a, b = (open(name, "wb") for name in ("good.bin", "a.bin", "b.bin"))
for number in range(mib):
    block = os.urandom(1 << 20)
    crc, _ = zlib.crc32(block, crc), sha1.update(block)
    a.write(block if number % 97 else block[:500] + bytes([block[500] ^ 1]) + block[501:])
    b.write(block if number % 101 != 7 else block[:900] + bytes([block[900] ^ 1]) + block[901:])
open("list.dat", "w").write(f'<datafile><game name="x"><rom name="x.bin" size="{mib << 20}" crc="{crc:08x}" sha1="{sha1.hexdigest()}"/></game></datafile>')
open("crc.dat", "w").write(f'<datafile><game name="x"><rom name="x.bin" size="{mib << 20}" crc="{crc:08x}"/></game></datafile>')
PY
rm good.bin
echo "| repair of $mib MiB | decanter | other | ratio |"
pair "two copies by CRC-32 / cp and sync" "cp a.bin out && sync out" "$decanter repair a.bin b.bin --against crc.dat -o out"
pair "two copies by SHA-1 / cp and sync" "cp a.bin out && sync out" "$decanter repair a.bin b.bin --against list.dat -o out"
pair "two copies by SHA-1 / cmp, cp, sha1sum" "cmp -l a.bin b.bin; cp a.bin out && sync out; sha1sum out" "$decanter repair a.bin b.bin --against list.dat -o out"
/usr/bin/time -f "peak %M KiB" "$decanter" repair a.bin b.bin --against list.dat -o peak.bin >/dev/null
