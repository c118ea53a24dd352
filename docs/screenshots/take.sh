#!/bin/sh
# Takes the pictures of this folder again, from the demo data, in a real terminal window.
# Needs Xvfb, xterm, ImageMagick, a browser and a good font:
# apt-get install xvfb xterm imagemagick chromium fonts-dejavu
set -eu
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
export DISPLAY=:97 TERM=xterm-256color
Xvfb "$DISPLAY" -screen 0 1280x800x24 -noreset >/dev/null 2>&1 &
screen=$!
concordex demo "$work/ferries" --by-hand >"$work/demo.txt" 2>&1 &
demo=$!
trap 'kill $demo 2>/dev/null; kill $screen 2>/dev/null; rm -rf "$work"' EXIT
until grep -q 'Open another terminal' "$work/demo.txt"; do
    kill -0 $demo || { cat "$work/demo.txt"; exit 1; }
    sleep 0.5
done

shot() { # NAME, FOLDER, then commands to be typed there
    name=$1 folder=$2; shift 2
    {
        printf 'cd %s\nclear\n' "$folder"
        for line in "$@"; do
            printf "printf '\\\\033[1;36m%%s\\\\033[0m\\\\n' \"\$ %s\"\n%s\necho\n" "$line" "$line"
        done
        printf 'touch %s/done\nsleep 60\n' "$work"
    } >"$work/type.sh"
    rm -f "$work/done"
    xterm -geometry 158x48+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#10141a' -fg '#d8dee9' -e sh "$work/type.sh" &
    window=$!
    until [ -e "$work/done" ]; do kill -0 $window; sleep 0.2; done
    sleep 0.7
    import -window root "$here/$name.png"
    kill $window
    echo "$name.png"
}

fleet=$work/ferries
shot pull "$fleet" "concordex pull" "concordex pulls"
sed -i 's/^    dialect: \(fairlead\|masthead\|crowsnest\)$/&\n    tags: [quays]/; s/^    dialect: \(pilotage\)$/&\n    tags: [ships]/' "$fleet/concordex.yaml"
shot show "$fleet" \
    "concordex show devices --where 'kind = switch and os = TideOS and os_version < 7.2.10' --limit 20" \
    "concordex show devices --where 'kind in (laptop, tablet)' --count-by system,kind --sort system" \
    "concordex show interfaces --where 'device.site = cobble-quay and status = down' --limit 4" \
    "concordex show readings --count-by device.site,taken_at:day --of level --limit 4" \
    "concordex query 'select model, count(*) as devices from devices group by model order by devices desc limit 5'"
shot call "$fleet" \
    "concordex call fairlead /nodes size=many" "concordex call muster --list roles" \
    "concordex call muster devices --all --take devices -c displayName,serialNo,office -n 3" \
    "concordex call crowsnest /states --as curl"
shot findings "$fleet" "concordex reconcile" "concordex findings --count" \
    "concordex findings --where 'severity = high' --limit 4"
device=$(cd "$fleet" && concordex show findings --where 'kind = duplicate and systems = fairlead' -c entry -n 1 -f csv | tail -1)
shot explain "$fleet" "concordex explain $device"
(cd "$fleet" && concordex pull fairlead && concordex reconcile) >"$work/again.txt" 2>&1   # counters have rates from two pulls on
shot health "$fleet" "concordex health --where 'kind in (switch, router, tablet)' -n 5" \
    "concordex health --batteries -n 5" "concordex health --plugin"
(cd "$fleet" && concordex racks --where 'site in (mv-knot, ropewalk-depot, cobble-quay)' --draw "$here/racks.png"
    concordex links --where 'near.site in (cobble-quay, gull-stairs) or far.site in (cobble-quay, gull-stairs)' --draw "$here/site.png"
    concordex health --events --where 'site in (fishgate, mv-eider, saltpan)' --draw "$here/timeline.png"
    concordex report -o "$work/fleet.html") >"$work/drawn.txt" 2>&1 || true
shown() { # NAME, ADDRESS: a page in a browser
    chromium --headless --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-component-update \
        --disable-sync --user-data-dir="$work/profile" --hide-scrollbars --window-size=1280,800 \
        --screenshot="$here/$1.png" "$2" >/dev/null 2>&1
    echo "$1.png"
}
shown report "file://$work/fleet.html"
shown documentation "file://$here/../../build/site/cookbook.html"
shot sync "$fleet" "concordex sync stowage --draft"
cat >"$fleet/console.py" <<'END'
"""What a browser would record of Fairlead's console: somebody signs in, and looks at ports and devices."""
import json, pathlib, re, urllib.request
from datetime import UTC, datetime, timedelta
url = re.search(r"fairlead:\n.*?url: (\S+)", pathlib.Path("concordex.yaml").read_text(), re.DOTALL)[1] + "/fl/3"
word = pathlib.Path("../ferries-aside/fairlead-passphrase").read_text().strip()
entries, at = [], datetime(2026, 11, 30, 14, 3, tzinfo=UTC)
def ask(method, path, sent=None, session=None):
    headers = {"Content-Type": "application/json"} | ({"Fairlead-Session": session} if session else {})
    asked = urllib.request.Request(url + path, json.dumps(sent).encode() if sent else None, headers, method=method)
    text = urllib.request.urlopen(asked).read().decode()
    request = {"method": method, "url": url + path, "headers": [{"name": n, "value": v} for n, v in headers.items()]}
    request |= {"postData": {"mimeType": "application/json", "text": json.dumps(sent)}} if sent else {}
    content = {"mimeType": "application/json", "size": len(text), "text": text}
    entries.append({"startedDateTime": (at + timedelta(seconds=4 * len(entries))).isoformat(), "request": request,
                    "response": {"status": 200, "headers": [], "content": content}})
    return json.loads(text)
key = ask("POST", "/session", {"operator": "inventory", "passphrase": word})["session"]["key"]
for path in ("/nodes?from=1&size=50", "/nodes?from=51&size=50", "/ports?from=1&size=50", "/ports?from=51&size=50"):
    ask("GET", path, session=key)
pathlib.Path("console.har").write_text(json.dumps({"log": {"version": "1.2", "entries": entries}}))
END
(cd "$fleet" && python3 console.py)
shot learn "$fleet" "concordex dialect trace console.har -c at,call,times,parameters,answers" \
    "concordex dialect draft campus --from console.har" "sed -n '/devices:/,/os_version/p' dialects/campus.yaml | cut -c1-150" \
    "concordex change run 1 --against-copy --first 40 | tail -3"
rm "$fleet/dialects/campus.yaml"
(cd "$fleet" && concordex change run 1 --yes) >"$work/synced.txt" 2>&1 || true  # what is held is named, with status 4
cp "$here/../examples/new-switches.csv" "$fleet"
shot push "$fleet" "concordex push new-switches.csv --to stowage --rejects bad.csv --draft" \
    "concordex change run 2 --first 3 --yes" "concordex change run 2 --batch-size 1 --yes" "cut -c1-120 bad.csv"
mkdir "$fleet/guests"
cat >"$fleet/guests/objects.sh" <<'END'
firewalls=$(concordex show devices -s bollard --where 'status = up' -c name -f csv | sed -n 2,3p | paste -sd,)
one() { printf 'format: 1\nkind: %s\nname: %s\nobject: {%s}\n' "$1" "$2" "$3" >"guests/$1.yaml"; }
one addresses guest-net 'value: 10.77.0.0/16, note: guests'
one services anything 'protocol: tcp, ports: 1-65535'
one rulesets guests "targets: [$firewalls]"
one rules 'guests/keep them out' \
    'ruleSet: guests, place: 1, from: guest-net, to: net-ropewalk-depot, service: anything, verdict: stop'
END
(cd "$fleet" && sh guests/objects.sh && rm guests/objects.sh)
shot objects "$fleet" "concordex config push guests --to bollard --stage --yes" "concordex config pending bollard" \
    "concordex config commit bollard --yes" "concordex config install bollard/rulesets/guests --yes" \
    "concordex config remove bollard/rulesets/guests bollard/services/anything --count 2"
(cd "$fleet" && concordex config save --all --into baselines &&
    concordex config save "switches:$(sed -n '2s/,.*//p' switches.csv)" --into baselines && git init -q . && git add baselines &&
    git -c user.name=Kim -c user.email=kim@saltmarsh.example commit -qm 'Rules and policies as of the audit') >"$work/saved.txt" 2>&1
(cd "$fleet" && sed -i 's/verdict: stop/verdict: pass/; s/place: 1/place: 9/' guests/rules.yaml &&
    concordex config push guests --to bollard --yes && concordex config copy muster/policies/laptops --as 'laptops, for now' \
    --set encrypted=no --yes && concordex lines enter switches segments.j2 --with switches.csv --yes; concordex config remove muster/roles/kiosk --count 1) >"$work/edited.txt" 2>&1
cat >"$work/stage.py" <<'END'
"""Somebody alters an address by hand, and forgets to commit."""
import json, pathlib, re, sys, urllib.request
folder = pathlib.Path(sys.argv[1])
url = re.search(r"bollard:\n    dialect: bollard\n    url: (\S+)", (folder / "concordex.yaml").read_text())[1]
password = (folder.parent / "ferries-aside" / "bollard-password").read_text()
def call(method, session=None, **params):
    body = {"jsonrpc": "2.0", "id": 1, "method": method, "params": params} | ({"session": session} if session else {})
    asked = urllib.request.Request(f"{url}/bollard/rpc", json.dumps(body).encode(), {"Content-Type": "application/json"})
    return json.load(urllib.request.urlopen(asked))["result"]
session = call("session.open", user="relief", password=password)["session"]
first = call("object.list", session, kind="address")["objects"][0]
call("object.alter", session, kind="address", ref=first["ref"], object={"value": "10.0.0.0/8"})
END
python3 "$work/stage.py" "$fleet"
shot drift "$fleet" "concordex drift bollard muster switches" "concordex drift bollard --restore --yes" \
    "concordex config copy muster/roles/office --as 'office, no restart' --drop 'rights[=restart]' --yes" \
    "concordex config diff baselines/muster muster"
cat >>"$fleet/concordex.yaml" <<'END'

timetable: {zone: Europe/London, jitter: 5m}
jobs:
  nightly:
    at: "02:30"
    days: [mon, tue, wed, thu, fri]
    steps:
      - pull {systems}
      - {run: reconcile, only_if: whole}
      - {run: "findings --where 'severity = high' --count", stop_on: found}
      - {run: sync stowage --draft, only_if: nothing_failed}
      - {run: health --count, always: true}
    apart: {muster: {every: 2h}}
  drift: {cron: "17 */6 * * *", steps: [drift bollard muster]}
tell:
  watch: {by: file, file: told.ndjson, of: [failed, recovered, findings, drift]}
END
(cd "$fleet" && sed -i '/^  binnacle:/,/url:/s#url: .*#url: http://127.0.0.1:9#' concordex.yaml &&
    concordex pull binnacle; concordex job run drift) >"$work/worked.txt" 2>&1 || true
shot work "$fleet" "concordex system check fairlead bollard binnacle" "concordex system list -c system,state,since,last\ pull,age,next\ pull" \
    "concordex job run nightly 2>progress" "concordex job list" "concordex doctor"
shot demo "$work" "concordex demo shown"
shot night "$work" "concordex demo saltmarsh --night --devices 120"
