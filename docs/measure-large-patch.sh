#!/usr/bin/env bash
# Measures what docs/performance.md says of patches between files that are not held: a part moves, every fiftieth mebibyte changes,
# some bytes are new. Usage: docs/measure-large-patch.sh [PROGRAM] [MIB]     needs python3, GNU time, zstd
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
decanter=$(realpath "${1:-$here/target/release/decanter}")
mib=${2:-1100}
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cd "$folder"
python3 - "$mib" <<'PY'
import os, sys
mib = int(sys.argv[1])
with open("old.iso", "wb") as old:
    for _ in range(mib):
        old.write(os.urandom(1 << 20))
with open("old.iso", "rb") as old, open("new.iso", "wb") as new:
    old.seek((mib * 3 // 11) << 20)
    for number, block in enumerate(iter(lambda: old.read(1 << 20), b""), 1):
        new.write(block if number % 50 else block[:1000] + b"changed" + block[1007:])
    old.seek(0)
    new.write(os.urandom(5000))
    for _ in range(mib * 3 // 11):
        new.write(old.read(1 << 20))
PY
measure() { /usr/bin/time -f "$1: %e s, peak %M KiB" "${@:2}" >/dev/null; }
for _ in 1 2 3; do
    rm -f new.bps new.vcdiff new.zst
    measure "patch make, BPS" "$decanter" patch make old.iso new.iso
    measure "patch make, VCDIFF" "$decanter" patch make old.iso new.iso --format vcdiff
    measure "zstd --patch-from" zstd -q -T0 -3 --long=31 --patch-from=old.iso new.iso -o new.zst
done
ls -l new.bps new.vcdiff new.zst
