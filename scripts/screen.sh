# Sourced by scripts that look at the application: a terminal of 160 by 40 cells on a screen of 1280 by 800 that nobody
# sees. screen_open COMMAND… runs a command in it, press sends keys, shot FILE.png [CROP] takes a picture, screen_close
# ends it.
# SCREEN_COLORS=light gives a light terminal; SCREEN_CELLS=80x24 another size.
screen_open() {
	display=90
	while [ -e /tmp/.X11-unix/X$display ]; do display=$((display + 1)); done
	Xvfb :$display -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
	xvfb=$!
	export DISPLAY=:$display
	for _ in $(seq 100); do xdotool getdisplaygeometry >/dev/null 2>&1 && break; sleep 0.05; done
	back=#0d1020 fore=#d9d3c3
	if [ "${SCREEN_COLORS:-dark}" = light ]; then back=#f6f2e7 fore=#2b2a33; fi
	xterm -fa 'DejaVu Sans Mono' -fs 9.6 -xrm 'XTerm*scaleHeight: 1.15' -b 0 -bw 0 +sb -bg $back -fg $fore \
		-geometry "${SCREEN_CELLS:-160x40}+0+0" -tn xterm-256color -e env COLORTERM="${SCREEN_COLORTERM-truecolor}" "$@" >/dev/null 2>&1 &
	xterm=$!
	for _ in $(seq 100); do xdotool search --class xterm >/dev/null 2>&1 && break; sleep 0.05; done
	xdotool mousemove 60 60 # keys go to what the pointer is on
	sleep 0.5
}

press() { for key in "$@"; do xdotool key "$key"; sleep 0.08; done; sleep 0.3; }

shot() { import -window root ${2:+-crop "$2" +repage} "$1"; }

screen_close() {
	kill $xterm 2>/dev/null || true
	wait $xterm 2>/dev/null || true
	kill $xvfb 2>/dev/null || true
	wait $xvfb 2>/dev/null || true
}
