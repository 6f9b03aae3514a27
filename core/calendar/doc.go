// Package calendar turns time rules into due moments and windows.
//
// It computes only: every moment is passed in, no clock is read. It may import
// nothing of ours. What it keeps true: the windows of one rule cover time
// without gap and without overlap, because the end of a window is a due moment
// and its start is the due moment before it.
//
// # How a wall-clock rule meets daylight saving
//
// A rule names times on the wall clock of its zone.
//
//   - A time that the clock jumps over is due at the first moment after the
//     jump. Several such times, and one that is due at that moment anyway, are
//     due once.
//   - A time that the clock shows twice is due once, the first time it is
//     shown, if the rule names its hours (`cron: "30 2 * * *"`, `every: 6h`).
//     It is due each time if the rule repeats within the hour (`every: 15m`,
//     `cron: "0 * * * *"`), so that no hour of the night is left out.
package calendar
