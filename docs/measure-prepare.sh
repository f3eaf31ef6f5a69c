#!/usr/bin/env bash
# Measures what docs/performance.md says of preparing a shelf: a plan of a thousand mixed sources, the run, and how many cores it keeps
# busy. Usage: docs/measure-prepare.sh [PROGRAM]     needs python3, GNU time, zip
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
decanter=$(realpath "${1:-$here/target/release/decanter}")
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cd "$folder"
"$decanter" demo saltmarsh --no-tour >/dev/null
python3 - <<'PY'
import os, random, shutil
random.seed(21)
os.makedirs("shelf")
def variant(source, target, number):
    # The last bytes are no header's: what comes out is another dump of the same kind.
    data = bytearray(open(source, "rb").read())
    data[-8:] = number.to_bytes(8, "big")
    open(target, "wb").write(data)
drawer = "saltmarsh/drawer"
roms = [n for n in sorted(os.listdir(drawer)) if n.rsplit(".", 1)[-1] in ("gb", "gba", "nes", "smc", "smd", "v64", "sms", "gg", "pce", "nds")]
for number in range(640):
    name = roms[number % len(roms)]
    stem, extension = name.rsplit(".", 1)
    variant(f"{drawer}/{name}", f"shelf/{stem} {number}.{extension}", number)
for number in range(200):
    variant("saltmarsh/Moth Parade.iso", f"shelf/Moth Parade {number}.iso", number)
for number in range(100):
    variant("saltmarsh/Pier Nine Pinball.bin", f"shelf/Pinball {number}.bin", number)
    sheet = open("saltmarsh/Pier Nine Pinball.cue").read().replace("Pier Nine Pinball.bin", f"Pinball {number}.bin")
    open(f"shelf/Pinball {number}.cue", "w").write(sheet)
for number in range(60):
    variant("saltmarsh/machines/Storage Unit 9.d64", f"shelf/Unit {number}.d64", number)
PY
sed 's/^one-each = true/one-each = false/' "$here/crates/jobs/src/prepare/shipped/handheld.toml" > own.toml
plan() { "$decanter" prepare shelf --for own.toml --plan plan.toml --replace; }
follow() { rm -rf card; mkdir card; "$decanter" prepare --follow plan.toml --onto card; }
plan >/dev/null
echo "sources: $(grep -c '^\[\[make\]\]' plan.toml), $(du -sh shelf | cut -f1)"
for round in 1 2 3; do
    /usr/bin/time -f "plan: %e s, peak %M KiB" "$decanter" prepare shelf --for own.toml --plan plan.toml --replace >/dev/null
done
for round in 1 2 3; do
    rm -rf card; mkdir card
    /usr/bin/time -f "run: %e s, %U s user, %S s system, peak %M KiB" "$decanter" prepare --follow plan.toml --onto card >/dev/null
done
/usr/bin/time -f "once more: %e s" "$decanter" prepare --follow plan.toml --onto card >/dev/null
