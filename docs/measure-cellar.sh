#!/usr/bin/env bash
# Measures the cellar against what a user would otherwise run, as ratios of one run.
# Usage: docs/measure-cellar.sh [FILES] [ENTRIES]     needs sha1sum, xargs, python3
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
files=${1:-100000} entries=${2:-1000000}
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
decanter=$here/target/release/decanter
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
cd "$folder"
python3 - "$files" "$entries" <<'PY'
import os, random, sys
files, entries = int(sys.argv[1]), int(sys.argv[2])
random.seed(5)
for number in range(files):
    path = f"many/{number // 500:04}"
    os.makedirs(path, exist_ok=True)
    with open(f"{path}/tide {number % 500:03}.rom", "wb") as out:
        out.write(random.randbytes(random.randint(2000, 14000)))
with open("big.dat", "w") as out:
    out.write('<?xml version="1.0"?>\n<datafile>\n<header><name>Tide Tables</name><version>1</version></header>\n')
    for game in range(entries // 2):
        out.write(f'<game name="Tide {game}">')
        for rom in range(2):
            out.write(f'<rom name="Tide {game} ({rom}).rom" size="{random.randint(1000, 90000)}" crc="{random.getrandbits(32):08x}" '
                      f'md5="{random.getrandbits(128):032x}" sha1="{random.getrandbits(160):040x}"/>')
        out.write("</game>\n")
    out.write("</datafile>\n")
PY
took() { local before after; before=$(date +%s.%N); "$@" >/dev/null 2>&1 || true; after=$(date +%s.%N); echo "$after - $before" | bc; }
peak() { /usr/bin/time -f %M "$@" 2>&1 >/dev/null | tail -1; }
cores=$(nproc)
sums() { find many -type f -print0 | xargs -0 -P"$cores" -n 500 sha1sum; }
scan() { rm -rf cellar; "$decanter" cellar new cellar -q; "$decanter" cellar scan --cellar cellar many; }
sums >/dev/null
for round in 1 2 3; do
    a=$(took sums) b=$(took scan)
    echo "round $round: sha1sum on $cores cores $a s, scan $b s, ratio $(echo "scale=2; $a / $b" | bc)"
done
rm -rf cellar; "$decanter" cellar new cellar -q
echo "first scan: peak $(peak "$decanter" cellar scan --cellar cellar many) KiB"
echo "second scan: $(took "$decanter" cellar scan --cellar cellar) s"
echo "status: $(took "$decanter" cellar status --cellar cellar) s"
echo "report: $(took "$decanter" cellar report --cellar cellar -o report.html) s, $(stat -c %s report.html) bytes"
echo "match of $entries entries: $(took "$decanter" cellar match --cellar cellar --dat big.dat) s"
echo "status after that: $(took "$decanter" cellar status --cellar cellar) s"
echo "report after that: $(took "$decanter" cellar report --cellar cellar -o report.html --replace) s, $(stat -c %s report.html) bytes"
