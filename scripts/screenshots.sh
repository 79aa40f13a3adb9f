#!/usr/bin/env bash
# Makes the pictures in docs/screenshots again, from the demo's data: each shows a command and its output in a terminal.
# Needs, from Debian: xvfb xterm imagemagick x11-utils fonts-dejavu-core.
set -euo pipefail
cd "$(dirname "$0")/.."
project=$PWD
for tool in Xvfb xterm import xdpyinfo; do
	command -v $tool >/dev/null || { echo "$tool is missing: install xvfb xterm imagemagick x11-utils fonts-dejavu-core" >&2; exit 1; }
done
make -s build
out=$project/docs/screenshots
work=$(mktemp -d)
display=:97
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
xvfb=$!
"$project/bin/tartine" demo --keep >"$work/demo.log" 2>&1 &
demo=$!
trap 'kill -INT $demo 2>/dev/null; wait $demo 2>/dev/null; kill $xvfb 2>/dev/null; rm -rf "$work"' EXIT
export DISPLAY=$display PATH=$project/bin:$PATH XDG_CACHE_HOME=$work/cache

until grep -q 'stay until Ctrl-C' "$work/demo.log"; do sleep 0.1; done
until xdpyinfo >/dev/null 2>&1; do sleep 0.1; done
dir=$(sed -n 's/^The folder \(.*\) and the server stay.*/\1/p' "$work/demo.log")
cd "$dir"

# answered FILE COMMAND: runs a command on a terminal of its own, where the lines of a file are typed.
answered() { (while IFS= read -r line; do sleep 0.7; echo "$line"; done <"$1"; sleep 3) | script --return --quiet --command "$2" /dev/null; }
export -f answered

# shot NAME SCRIPT [CONDITION]: runs a script in a terminal; each of its lines is shown before it is run. The picture is
# taken when it has ended, or shortly after a condition holds.
shot() {
	{
		echo 'clear'
		while IFS= read -r line; do printf 'printf "\\033[1m$ %%s\\033[0m\\n" %q\n%s\n' "$(sed "s/^answered [^ ]* '\(.*\)'$/\1/" <<<"$line")" "$line"; done <<<"$2"
		echo "touch $work/done; sleep 60"
	} >"$work/run"
	rm -f "$work/done"
	xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 140x46+0+0 -bg '#14181c' -fg '#d8dee4' -b 12 +sb -e bash "$work/run" &
	local terminal=$!
	for _ in $(seq 300); do
		if eval "${3:-[ -e $work/done ]}"; then break; fi
		sleep 0.1
	done
	sleep 1
	import -window root "$out/$1.png"
	kill $terminal 2>/dev/null; wait $terminal 2>/dev/null || true
}

shot help 'tartine | head -44'
mkdir "$work/new" && cp -r site "$work/new/public" && cd "$work/new"
url=$(sed -n 's#^ *url: *\(ssh:.*\)/server/gannet$#\1/server/new#p' "$dir/tartine.yaml" | head -1)
key=$(sed -n 's#^ *identity: *##p' "$dir/tartine.yaml" | head -1)
printf '%s\n' '' "$url" "$dir/$key" yes >"$work/typed"
shot init "answered $work/typed 'tartine init'"
cd "$dir"
echo 'The landing is closed.' >notice.txt

# A fresh site for the first deployment.
sed -i 's#/server/gannet$#/server/rock#' tartine.yaml
tartine deploy rock --quiet

echo '<p>Fog.</p>' >site/log/2026-07.html
sed -i 's/4120 pairs/4131 pairs/' site/species/gannet.html
rm site/log/2026-02.html
echo 'left here by hand' >server/rock/notes.txt
sed -i 's/,4\./,3./' server/rock/tides/2026-03.csv
shot diff 'tartine diff rock'
shot verify 'tartine verify rock'
tartine deploy rock --yes --quiet
sed -i 's/Land two hours/Land one hour/; s/two hours either/one hour either/' site/visit.html
tartine deploy rock --quiet
shot history 'tartine history rock
tartine history rock 3
tartine rollback rock
tartine history rock'
# Commands around a deployment, of which a check finds it unwell; and the site as visitors see it, through a cache that is not up to date.
cp tartine.yaml "$work/plain.yaml"
cat >>tartine.yaml <<'END'
  live:
    url: server/live
    web: http://127.0.0.1:8093/
    before_publish:
      - there: sort "$TARTINE_CHANGED"
    after_publish:
      - there: [sh, -c, 'date >../reloaded; echo "deployment $TARTINE_DEPLOYMENT is taken up"']
    check:
      - {url: "http://127.0.0.1:8093/visit.html", contains: "one hour either"}
    within: 2s
END
tartine deploy live --quiet --no-commands
serve() { python3 -m http.server --bind 127.0.0.1 --directory "$1" 8093 >/dev/null 2>&1 & web=$!; until (echo >/dev/tcp/127.0.0.1/8093) 2>/dev/null; do sleep 0.1; done; }
serve server/live
cp site/visit.html "$work/visit.html"
sed -i 's/one hour either/half an hour either/' site/visit.html
shot commands 'tartine deploy live; echo "exit status $?"
tartine history live'
kill $web; wait $web 2>/dev/null || true
cp "$work/visit.html" site/visit.html
sed -i 's/4131 pairs/4140 pairs/' site/species/gannet.html
tartine deploy live --quiet --no-commands
cp -r server/live "$work/cached"
(cd "$work/cached" && sed -i 's/4140 pairs/4131 pairs/' species/gannet.html && sed -i 's#</body>#<script src="https://ads.example/x.js"></script></body>#' index.html &&
	rm tides/2026-03.csv && echo '/* empty */' >css/rock.css && mkdir .git && echo 'ref: refs/heads/main' >.git/HEAD)
serve "$work/cached"
shot verify-web 'tartine verify live
tartine verify live --web
tartine verify live --web --sample 5'
kill $web; wait $web 2>/dev/null || true
sed -i 's/4140 pairs/4131 pairs/' site/species/gannet.html
cp "$work/plain.yaml" tartine.yaml
shot doctor 'tartine doctor rock
tartine targets --check'
shot fetch 'tartine fetch rock tides --into copy
tartine fetch rock --into copy --dry-run
tartine fetch rock log/2026-05.html --into copy --as may.html
tartine fetch rock log/2026-05.html --into copy --as may.html'
# A watch beside the one who saves, and a look around.
cat >"$work/watched" <<'END'
tartine watch rock &
sleep 3
sed -i 's/4131 pairs/4140 pairs/' site/species/gannet.html; sleep 1
mkdir site/storm; for i in 1 2 3 4 5 6 7 8; do echo "<p>$i" >site/storm/$i.html; done; sleep 1
echo 'altered there' >server/rock/log/2026-05.html; echo '<p>altered here' >site/log/2026-05.html; sleep 1
rm -r site/storm; sleep 1
kill -TERM %1; wait
END
shot watch "$(cat "$work/watched")"
tartine deploy rock --yes --quiet
echo 'altered there' >>server/rock/log/2026-06.html
shot ls 'tartine send rock notice.txt --to notices
tartine ls rock notices log --long
tartine find rock --status drifted --status hand --contains e
tartine usage rock'
# Two people edit one file; what is there goes home; the site goes.
cat >"$work/editor" <<'END'
#!/bin/sh
sed -i 's/one hour/two hours/' "$1"
sed -i 's/one hour/three hours/' server/rock/visit.html
END
chmod +x "$work/editor"
echo no >"$work/no"
export EDITOR="$work/editor"
shot edit "answered $work/no 'tartine edit rock visit.html'
answered $work/no 'tartine wipe rock'"
shot adopt "answered $work/no 'tartine adopt rock'"
# What is at one target is brought to another, and the content becomes an archive and an image.
sed '/^  rock:/,/^  [a-z]*:$/{s/^  rock:/  live:/;s#/server/rock$#/server/live#}' tartine.yaml | sed -n '/^  live:/,$p' >"$work/live"
cat "$work/live" >>tartine.yaml
tartine deploy rock --yes --quiet --remove-strays
shot promote 'tartine promote rock live
tartine history live
echo by hand >>server/rock/visit.html
tartine promote rock live'
tartine deploy rock --yes --quiet
shot pack 'tartine pack --output gannet.tar.zst --quiet; tartine verify gannet.tar.zst
tartine pack --output gannet.oci.tar --image gannet-rock:1.4 --at /srv/www
tartine verify gannet.oci.tar
tartine diff --source gannet.tar.zst --unpack live
head -c 9000 gannet.tar.zst >torn.tar.zst; tartine deploy --source torn.tar.zst --unpack live'
rm -f torn.tar.zst gannet.*
echo 'TIDE_TOKEN=made-up' >site/.env
ssh-keygen -q -t ed25519 -N '' -f site/css/backup && rm site/css/backup.pub
shot guard 'tartine explain plates/proof-gannet.svg site/cgi/next-tide.sh img/plates/gannet.svg
tartine deploy rock'
rm site/.env site/css/backup
shot errors 'tartine deploy rok
tartine diff ssh://warden@127.0.0.1:9/srv/www --source site
tartine manifest --source nowhere
tartine deploy rock --fingerprint SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA'
mkdir "$work/large"
for i in $(seq 1 12); do head -c 40000000 /dev/urandom >"$work/large/plate-$i.tif"; done
sed -i "s#source: plates#source: $work/large#; s#/server/rock\$#/server/large#; /include:/d; /exclude:/d; /source: site/d" tartine.yaml
shot progress 'tartine deploy rock' '[ "$(find server/.large.tartine -name "plate*" -type f 2>/dev/null | wc -l)" -gt 3 ]'

# A container, on the machine's engine or on the stand-in.
cd "$project"
kill -INT $demo 2>/dev/null; wait $demo 2>/dev/null || true
"$project/bin/tartine" demo --target container --keep >"$work/demo.log" 2>&1 &
demo=$!
until grep -q 'stay until Ctrl-C' "$work/demo.log"; do sleep 0.1; done
cd "$(sed -n 's/^The folder \(.*\) and the container stay.*/\1/p' "$work/demo.log")"
sed -i 's/4120 pairs/4131 pairs/' site/species/gannet.html
shot container 'tartine doctor rock
tartine deploy rock'
