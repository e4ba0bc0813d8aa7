#!/usr/bin/env bash
# Takes the screenshots of this folder anew, from the demo data, in a real terminal window. Needs the Debian packages xvfb, xterm,
# imagemagick and fonts-dejavu-core. Usage: docs/screenshots/make.sh [NAME...]
set -euo pipefail
cd "$(dirname "$0")/../.."
out=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'kill $display 2>/dev/null || true; rm -rf "$work"' EXIT
go build -o "$work/bin/ostrov" ./cmd/ostrov
export PATH=$work/bin:$PATH OSTROV_HOME=$work/demo/ostrov TZ=UTC
Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 & display=$!
sleep 1

# shot NAME COMMAND...: what a player sees after typing the command
shot() {
  local name=$1; shift
  [ ${#only[@]} = 0 ] || [[ " ${only[*]} " == *" $name "* ]] || { (cd "$work/demo" && eval "$*" >/dev/null 2>&1) || true; return 0; }
  cat > "$work/run" <<S
cd "$work/demo"
printf '\033[1m\$ %s\033[0m\n' '$*'
$*
touch "$work/done"
sleep 60
S
  rm -f "$work/done"
  DISPLAY=:97 xterm -geometry 158x47+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#14171c' -fg '#d8dde4' -xrm 'xterm*color8: #8a93a0' -xrm 'xterm*color1: #f2777a' \
    -xrm 'xterm*color2: #8fd18f' -xrm 'xterm*color3: #f0c674' -xrm 'xterm*color6: #7cc4d8' +sb -e bash "$work/run" & local term=$!
  for _ in $(seq 50); do [ -e "$work/done" ] && break; sleep 0.1; done
  sleep 0.4
  DISPLAY=:97 import -window root -crop 1280x800+0+0 "$work/$name.png"
  kill $term 2>/dev/null || true; wait $term 2>/dev/null || true
  convert "$work/$name.png" -background black -gravity northwest -extent 1280x800 -colors 64 "$out/$name.png"
}

only=("$@")
ostrov demo --dir "$work/demo" --quiet >/dev/null
cd "$work/demo"
shot games-add ostrov games add tidewrack --at games/Tidewrack --prefix prefix --yes
ostrov games add brass-orchard --at games/BrassOrchard --player-home player --yes >/dev/null
shot look ostrov look
ostrov games add night-tram --at games/NightTram --player-home player --yes >/dev/null
shot mods ostrov mods tidewrack
shot needs ostrov needs tidewrack/7
shot set 'ostrov fields brass-orchard/B; ostrov find brass-orchard/B Quince; ostrov set brass-orchard/B coins=9000 --as E --dry-run'
shot strip 'ostrov strip tidewrack/1 --of deep-tides --dry-run; ostrov convert brass-orchard/C --as E --dry-run'
shot borrow 'ostrov borrow wardens --from brass-orchard/B --into brass-orchard/A --as E --dry-run; ostrov members copy downloads/night-owls.drivers Otto --into night-tram/1 --yes'
ostrov undo --yes >/dev/null
shot keep ostrov keep tidewrack -m '"before trying downloads"'
shot vet ostrov vet downloads/finished-harbour.zip
shot vet-dangerous ostrov vet downloads/free-lamps.zip downloads/harbour-fix.zip downloads/free-fares.tramworld
shot parcel ostrov parcel tidewrack/1 --blank -o gannet-rock.zip
printf '#!/bin/sh\nprintf "night begins\\ndepot copper-line 1.4.0 opened\\ndepot bell-tower stays shut: old\\nfault: no bell for stop 12\\n" > player/.local/share/night-tram/session.log\ncp "player/.local/share/night-tram/worlds/Lower Town.tramworld" "player/.local/share/night-tram/worlds/Evening.tramworld"\n' > games/NightTram/night-tram.x86_64
chmod +x games/NightTram/night-tram.x86_64
shot play ostrov play night-tram -- games/NightTram/night-tram.x86_64
shot place ostrov place downloads/quiet-cove.zip --yes
rm -r prefix/drive_c/users/keeper/Documents/Tidewrack/lit/70431/slot_01
shot restore 'ostrov look tidewrack; ostrov restore tidewrack.1 --slot 2 --dry-run'
ostrov restore tidewrack.1 --yes >/dev/null
shot undo 'ostrov undo --dry-run'
ostrov mods add downloads/brass-voice.zip --yes >/dev/null
shot mods-add ostrov mods add downloads/copper-voice.zip downloads/glass-pears-2.0.0.zip downloads/glass-pears-shapes-2.0.0.zip --yes
ostrov mods adopt tidewrack --yes >/dev/null
rm games/Tidewrack/mods/fog-horns/art/fog-horns.art; echo '{"things": []}' > games/Tidewrack/mods/gull-post/things.json
ostrov mods drop tidewrack+deep-tides --dry-run; ostrov mods verify tidewrack >/dev/null
ostrov mods verify tidewrack --fix --yes >/dev/null || true
ostrov fresh "Night Run" tidewrack --yes >/dev/null
shot swap ostrov swap tidewrack --yes
rm -r games/Tidewrack/mods/fog-horns
sed -i 's/^#sea-glass/sea-glass/' games/Tidewrack/mods/order.txt


# The year of the second player, as the demo's story leaves it.
ostrov demo --dir "$work/year" >/dev/null
mv "$work/year/wren" "$work/demo/wren" && sed -i "s#$work/year/#$work/demo/#g" "$work/demo/wren/ostrov/installs.json" "$work/demo/wren/player/.config/brass-orchard/wardens.json"
export OSTROV_HOME=$work/demo/wren/ostrov
shot kept 'ostrov kept high-terrace; ostrov kept brass-orchard@main/A'
shot compare ostrov compare high-terrace.1 high-terrace.12
