// Package match finds what an event is for: of many patterns, those that it fits,
// through an index and not by asking each.
//
// It computes only and imports nothing of ours. What it keeps true: an event costs
// as much as it has places to look at and patterns that it fits, never as many
// patterns as there are.
package match
