# Which hour a run is for: HOUR as 2026-03-28T06, and HOURS, the folder of what is
# made of it on the way. Without a window it is the newest hour that there is.
set -eu
if [ -n "${LANTERN_WINDOW_START:-}" ]; then
  HOUR=$(printf %.13s "$LANTERN_WINDOW_START")
else
  HOUR=$(ls "$RIVER/radio" | sed -n 's/\.csv$//p' | tail -n 1)
fi
HOURS="$RIVER/hours/$HOUR"
mkdir -p "$HOURS"
