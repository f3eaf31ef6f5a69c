#!/usr/bin/env bash
# Makes every picture in docs/screenshots anew: commands on the demo collection in a terminal of 1280x800, and what they draw.
# Usage: docs/make-pictures.sh [NAME ...]     needs Xvfb, xterm, ImageMagick's import, and Chromium
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
cargo build --release --locked --manifest-path "$here/Cargo.toml" >&2
folder=$(mktemp -d)
display=:$((90 + RANDOM % 900))
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server 2>/dev/null; rm -rf "$folder"' EXIT
cd "$folder"
ln -s "$here/target/release/decanter" decanter
export PATH="$folder:$PATH" DISPLAY=$display HOME="$folder" LANG=C.UTF-8
decanter demo saltmarsh --no-tour >/dev/null
wanted=("$@")

is_wanted() { [ ${#wanted[@]} = 0 ] || [[ " ${wanted[*]} " == *" $1 "* ]]; }

# shot NAME BEFORE LINE...: what the lines print, each behind a prompt; BEFORE is run first, out of sight.
shot() {
    local name=$1 before=$2
    shift 2
    is_wanted "$name" || return 0
    bash -c "$before" >/dev/null 2>&1 || true
    rm -f done
    { for line in "$@"; do printf 'printf "\\033[1m$ %%s\\033[0m\\n" %q\n%s\necho\n' "$line" "$line"; done; echo 'touch done; sleep 60'; } > lines
    xterm -geometry 140x44+0+0 -fa 'DejaVu Sans Mono' -fs 10.5 -bg '#14181c' -fg '#d8dee4' -b 8 -bw 0 +sb -uc -e bash lines &
    local terminal=$!
    for _ in $(seq 600); do [ -e done ] && break; sleep 0.1; done
    sleep 0.5
    import -window root -crop 1280x800+0+0 "$here/docs/screenshots/$name.png"
    kill $terminal 2>/dev/null
    wait $terminal 2>/dev/null || true
}

# drawn NAME FILE LINE: a picture that the line itself draws.
drawn() {
    is_wanted "$1" || return 0
    bash -c "$3" >/dev/null 2>&1 || true
    cp "$2" "$here/docs/screenshots/$1.png"
}

# page NAME FILE LINE: a page that the line makes, in a browser.
page() {
    is_wanted "$1" || return 0
    bash -c "$3" >/dev/null 2>&1 || true
    chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --window-size=1280,800 --user-data-dir="$folder/browser" \
        --screenshot="$here/docs/screenshots/$1.png" "file://$folder/$2" >/dev/null 2>&1
}

cards='card/Kelp Courier [05009A3E11D20000] [v131072] (1 base, 1 update, 2 add-ons).xci'
shot identify '' \
    'decanter identify "saltmarsh/Kelp Courier.zip"' \
    'decanter identify "saltmarsh/Gullwing GP (full disc).iso"'
shot verify-damaged '' \
    'decanter verify "saltmarsh/Kelp Courier (damaged).iso"' \
    'decanter verify "saltmarsh/Kelp Courier (cut short).iso"' \
    'decanter verify "saltmarsh/Kelp Courier.zip"'
shot extract '' \
    'decanter extract "saltmarsh/Kelp Courier.zip" -o kelp' \
    'decanter extract saltmarsh/*.iso -o games' \
    'decanter decrypt "saltmarsh/Kelp Courier.zip" -o kelp.iso --verify'
shot dump 'rm -f lane.iso*' \
    'decanter dump sim:saltmarsh/drive.toml -o lane.iso --picture lane.png' \
    'decanter dump "sim:saltmarsh/other drive.toml" -o "other.iso" --passes 2' \
    'decanter dump sim:saltmarsh/drive.toml -o lane.iso --fill-from other.iso.incomplete --passes 1'
drawn disc-map map.png 'decanter dump sim:saltmarsh/drive.toml -o map.iso --picture map.png'
shot verify-dat '' 'decanter verify saltmarsh/*.iso saltmarsh/*.zip saltmarsh/*.cue --against saltmarsh/saltmarsh.dat' \
    'decanter verify saltmarsh/drawer/drawer.zip --against saltmarsh/drawer/drawer.dat'
shot patch 'rm -rf patched deep.gb' \
    'decanter patch apply saltmarsh/drawer/Fogbell.gb saltmarsh/drawer/Fogbell.bps -o deep.gb' \
    'decanter patch apply "saltmarsh/drawer/Brine Racer.smc" "saltmarsh/drawer/Brine Racer.bps" -o racer.sfc' \
    'decanter patch apply saltmarsh/drawer -o patched' \
    'decanter patch show saltmarsh/drawer/Fogbell.bps'
shot save 'rm -f raw.sav new.sav' \
    'decanter save show saltmarsh/drawer/Fogbell.sav --rom saltmarsh/drawer/Fogbell.gb' \
    'decanter save export saltmarsh/drawer/Fogbell.sav --rom saltmarsh/drawer/Fogbell.gb -o raw.sav' \
    'decanter save import raw.sav --into saltmarsh/drawer/Fogbell.sav --rom saltmarsh/drawer/Fogbell.gb -o new.sav' \
    'decanter save show "saltmarsh/handheld/moth save.bin" --keys saltmarsh/handheld/keys'
shot package 'rm -f dash.cia' \
    'decanter convert "saltmarsh/handheld/Kelp Dash.3ds" -o dash.cia --keys saltmarsh/handheld/keys' \
    'decanter verify dash.cia --keys saltmarsh/handheld/keys' \
    'decanter identify dash.cia --keys saltmarsh/handheld/keys'
shot recipe 'rm -f "Moth Hour.cia" parade.toml' \
    'decanter recipe new "saltmarsh/Moth Parade.iso" -o parade.toml --keys saltmarsh/console/keys' \
    'decanter recipe show saltmarsh/console/parade.toml --keys saltmarsh/console/keys 2>/dev/null' \
    'decanter recipe make saltmarsh/handheld/moth.toml -o "Moth Hour.cia"'
drawn recipe-sheet sheet.png 'decanter recipe show saltmarsh/handheld/moth.toml --picture sheet.png; decanter recipe show saltmarsh/console/parade.toml --keys saltmarsh/console/keys --picture parade.png; convert sheet.png parade.png -append -resize 1280x sheet.png'
shot merge 'rm -rf card parts' \
    'decanter identify saltmarsh/shelf' \
    'decanter merge "saltmarsh/shelf/Kelp Courier" --to xci -o card/' \
    "decanter unmerge \"$cards\" --keys saltmarsh/shelf/keys -o parts"
shot layers 'rm -f "Pier Nine 01.08.pkg"' \
    'decanter identify saltmarsh/pier9 | tail -8' \
    'decanter merge saltmarsh/pier9/*.pkg saltmarsh/pier9/backport --prove 2>/dev/null' \
    'decanter verify "Pier Nine 01.08.pkg"'
shot console 'rm -rf saltmarsh/console/stick/* parade.pkg lane.bin.enc' \
    'decanter recipe make saltmarsh/console/parade.toml --keys saltmarsh/console/keys -o parade.pkg 2>/dev/null' \
    'decanter convert "saltmarsh/Lamplighter Lane.iso" --to ps2-classics --keys saltmarsh/console/keys -o lane.bin.enc --prove' \
    'decanter deliver parade.pkg "saltmarsh/Moth Parade.iso" --onto saltmarsh/console/stick --layout ps3 --like saltmarsh/console/stick.img' \
    'decanter deliver --check saltmarsh/console/stick'
shot downloads 'rm -rf rowing installed slots' \
    'decanter identify saltmarsh/downloads/*.xcp | head -6' \
    'decanter extract saltmarsh/downloads/*.xcp -o rowing' \
    'decanter convert "saltmarsh/downloads/Gullwing Rows.iso" --to god -o installed/ --prove 2>/dev/null' \
    'decanter verify saltmarsh/downloads' \
    'decanter save export saltmarsh/downloads/Rowing.save -o slots'
shot machines 'rm -f games.d64 tide.hdf' \
    'decanter convert saltmarsh/machines/Kelp*.prg saltmarsh/machines/Moth*.prg --to d64 --label GAMES --menu -o games.d64' \
    'decanter list games.d64' \
    'decanter convert "saltmarsh/machines/Tide Table.lha" --to hdf --start auto -o tide.hdf'
page sheet 'pocket/decanter sheet.html' 'rm -rf pocket; mkdir pocket; decanter prepare saltmarsh/drawer saltmarsh/*.iso saltmarsh/*.cue --for handheld --onto pocket'
page report report.html 'rm -rf cellar report.*; decanter cellar new cellar; decanter cellar scan --cellar cellar saltmarsh/rack saltmarsh/drawer
    decanter --cellar cellar convert saltmarsh/lane.iso saltmarsh/drawer --to zst -o kept
    decanter cellar match --cellar cellar --dat saltmarsh/rack.dat saltmarsh/drawer/drawer.dat; decanter cellar report --cellar cellar -o report.html'
shot convert 'rm -rf kept lane.zst' \
    'decanter convert "saltmarsh/Lamplighter Lane.iso" -o lane.zst --prove' \
    'decanter convert saltmarsh/drawer --to zst -o kept' \
    'rm "kept/Fogbell.zst"; decanter convert saltmarsh/drawer --to zst -o kept | tail -5'
