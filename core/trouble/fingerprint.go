// Package trouble tells failures apart: which have the same cause, and what
// that cause is likely to be, in plain words.
//
// It computes only and imports nothing of ours. What it keeps true: the
// fingerprint of an error hangs on its words alone, never on the numbers,
// moments, paths and names of one run in it, so that the same mistake on two
// nights is one trouble.
package trouble

import (
	"crypto/sha256"
	"encoding/hex"
	"regexp"
	"strings"
	"unicode/utf8"
)

// longestError bounds what of an error is looked at, in bytes: what differs
// behind it is rarely the cause.
const longestError = 2000

// variable is what differs from run to run in one and the same error, the
// longest forms first; what each is replaced by says what stood there.
var variable = []struct {
	pattern *regexp.Regexp
	name    string
}{
	{regexp.MustCompile(`[A-Za-z][A-Za-z0-9+.-]*://[^\s"'<>)]+`), "<address>"},
	{regexp.MustCompile(`\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b`), "<id>"},
	{regexp.MustCompile(`\b\d{4}-\d{2}-\d{2}(?:[T ]\d{2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?:Z|[+-]\d{2}:?\d{2})?)?\b`), "<moment>"},
	{regexp.MustCompile(`\b\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?\b`), "<moment>"},
	{regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?\b`), "<host>"},
	{regexp.MustCompile(`\b[a-z][a-z0-9-]*:\d+\b`), "<run>"},
	{regexp.MustCompile(`(?:\.{1,2}|~)?(?:/[\w.@%+=,-]+){2,}/?`), "<path>"},
	{regexp.MustCompile(`\b(?:\d+(?:\.\d+)?(?:ns|us|µs|ms|s|m|h|d))+\b`), "<length>"},
	{regexp.MustCompile(`\b0x[0-9a-fA-F]+\b`), "<number>"},
	{regexp.MustCompile(`\b(?:[0-9]+[a-f]|[a-f]+[0-9])[0-9a-f]{6,}\b`), "<id>"},
	{regexp.MustCompile(`\b[A-Za-z]{1,4}[-_]?\d+\b`), "<name>"}, // G05, station-7
	{regexp.MustCompile(`[-+]?\b\d+(?:[.,]\d+)*\b`), "<number>"},
}

// exitCode is not variable: another code is another mistake.
var exitCode = regexp.MustCompile(`\bexit code \d+`)

// Normalise is an error without what differs from run to run: one line, with
// <number>, <moment>, <path>, <address>, <host>, <run>, <length>, <name> and <id> where such stood.
func Normalise(text string) string {
	if len(text) > longestError {
		text = text[:longestError]
		for !utf8.ValidString(text) {
			text = text[:len(text)-1]
		}
	}
	text = strings.Join(strings.Fields(text), " ")
	var out strings.Builder
	for {
		at := exitCode.FindStringIndex(text)
		if at == nil {
			break
		}
		out.WriteString(replaced(text[:at[0]]))
		out.WriteString(text[at[0]:at[1]])
		text = text[at[1]:]
	}
	out.WriteString(replaced(text))
	return out.String()
}

func replaced(text string) string {
	for _, v := range variable {
		text = v.pattern.ReplaceAllLiteralString(text, v.name)
	}
	return text
}

// Fingerprint is what troubles are grouped by: 12 hexadecimal digits of the
// SHA-256 of workflow, task and normalised error.
func Fingerprint(workflow, task, text string) string {
	sum := sha256.Sum256([]byte(workflow + "\x00" + task + "\x00" + Normalise(text)))
	return hex.EncodeToString(sum[:6])
}
