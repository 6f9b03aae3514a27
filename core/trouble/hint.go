package trouble

import (
	"regexp"
	"strings"
)

// Hint is what a failure is likely to come from.
type Hint struct {
	Kind  string // one word for programs, as in memory
	Cause string // what happened, in plain words
	Try   string // what to do next
}

// Seen is what is known of a failed attempt.
type Seen struct {
	Error    string
	ExitCode int // -1 if it did not end by itself
	Log      []string
}

type pattern struct {
	Hint
	words *regexp.Regexp                // in the error or the log, in lower case
	when  func(s Seen, all string) bool // besides or instead
}

// The known patterns, the surest first. The texts are those that the C library
// (errno(3)), POSIX shells and widespread interpreters and databases print.
var patterns = []pattern{
	{Hint{"timeout", "It took longer than its timeout allows and was ended.", "Look at the last lines for where it hung; if the work has grown, raise the task's timeout."},
		regexp.MustCompile(`over its timeout of`), nil},
	{Hint{"deadline", "The run took longer than its deadline allows and was ended.", "See on the time axis which task took the time; mend that, or raise the deadline."},
		regexp.MustCompile(`over its deadline of`), nil},
	{Hint{"awaited", "What it waited for did not come in time.", "See what it waits for on the Run page, and ask who sends it; then make the task again."},
		regexp.MustCompile(`did not come|waited .* in vain|nothing came`), nil},
	{Hint{"disk", "The disk is full.", "Free space where it writes, then make the failed tasks again."},
		regexp.MustCompile(`no space left on device|disk quota exceeded|database or disk is full|enospc`), nil},
	{Hint{"memory", "It was ended for using too much memory.", "Compare its peak memory with earlier attempts; give it less at a time, or the machine more."},
		regexp.MustCompile(`out of memory|cannot allocate memory|memoryerror|java\.lang\.outofmemoryerror|std::bad_alloc|oom[- ]kill`),
		func(s Seen, _ string) bool {
			return s.ExitCode == 137 || strings.HasPrefix(s.Error, "ended by SIGKILL")
		}},
	{Hint{"column", "The data has another shape than before: a column or field is missing, new, or of another type.", "Compare the input with that of the last good run, and ask who makes it what changed."},
		regexp.MustCompile(`(?:column|field)\b.*\b(?:does not exist|not found|missing|unknown|no longer|expected)|(?:unknown|missing|unexpected|no such|has no|no) (?:column|field)|keyerror|header .*(?:expected|changed|differs)|expected \d+ (?:columns|fields)`), nil},
	{Hint{"program", "A program or module that it calls is not there.", "Install it on the worker's machine, or correct the path; a path is relative to the project's folder."},
		regexp.MustCompile(`command not found|: not found\b|is not in path|the program .* does not exist|modulenotfounderror|no module named|cannot find module`),
		func(s Seen, _ string) bool { return s.ExitCode == 127 }},
	{Hint{"file", "A file or folder that it needs is not there.", "See who should make it, and whether that came out well; then make the failed tasks again."},
		regexp.MustCompile(`no such file or directory|filenotfounderror|file not found|\.[a-z]{1,5} (?:is missing|does not exist|not found)|missing file|cannot open .*no such`), nil},
	{Hint{"not-executable", "A program that it calls is not executable.", "Give the file its run bit (chmod +x) and apply the project again."},
		regexp.MustCompile(`has no run bit|exec format error|not executable`),
		func(s Seen, all string) bool { return s.ExitCode == 126 && !strings.Contains(all, "permission denied") }},
	{Hint{"denied", "It was not let in, or may not read or write what it needs.", "Check the account, password or key that it uses, and the rights of the files it names."},
		regexp.MustCompile(`permission denied|access denied|operation not permitted|authentication failed|unauthori[sz]ed|forbidden|\b(?:http )?(?:401|403)\b|invalid (?:password|credentials|token)|password authentication`), nil},
	{Hint{"route", "The machine that it wanted to reach cannot be found or reached.", "Check the name and the network from the worker's machine; then make the failed tasks again."},
		regexp.MustCompile(`no route to host|network is unreachable|could not resolve|name or service not known|temporary failure in name resolution|no such host|getaddrinfo|enotfound`), nil},
	{Hint{"refused", "The other side refused the connection: nothing listens there, or it is down.", "See whether that service runs and on which port; once it does, make the failed tasks again."},
		regexp.MustCompile(`connection refused|econnrefused|connection reset|broken pipe|server closed the connection|\b50[234]\b .*(?:gateway|unavailable|timeout)|service unavailable|bad gateway`), nil},
	{Hint{"slow", "The other side did not answer in time.", "See whether that service is slow or down; a retry with a longer pause may be enough."},
		regexp.MustCompile(`connection timed out|timed out|timeout|deadline exceeded|etimedout`), nil},
	{Hint{"locked", "Something else held a lock on what it needs.", "Find what holds it, or let the two tasks take one unit of a common capacity."},
		regexp.MustCompile(`database is locked|deadlock detected|lock wait timeout|could not obtain lock|resource temporarily unavailable`), nil},
	{Hint{"files", "Too many files were open at once.", "Close files once they are read, or raise the limit of open files of the worker."},
		regexp.MustCompile(`too many open files|emfile`), nil},
	{Hint{"crash", "The program crashed.", "It is a mistake in the program itself: run it by hand with the same input and a debugger."},
		regexp.MustCompile(`segmentation fault|ended by sigsegv|ended by sigabrt|ended by sigbus|core dumped|panic:`), nil},
	{Hint{"result", "What it left as its result is not a JSON object that can be kept.", "Write one JSON object of moderate size to the file that LANTERN_RESULT names."},
		regexp.MustCompile(`its result (?:is not|has over|cannot be read)`), nil},
	{Hint{"lost", "The worker that ran it was lost.", "See on the Workers page whether it is back; then make the task again."},
		regexp.MustCompile(`the worker that ran it is gone|was lost`), nil},
}

// HintFor finds the first known pattern in what an attempt said, first in its
// error and then in its log, the newest line first.
func HintFor(s Seen) (Hint, bool) {
	text := strings.ToLower(s.Error)
	if h, ok := match(s, text); ok {
		return h, true
	}
	for i := len(s.Log) - 1; i >= 0; i-- {
		line := strings.ToLower(s.Log[i])
		for _, p := range patterns {
			if p.words.MatchString(line) {
				return p.Hint, true
			}
		}
	}
	return Hint{}, false
}

func match(s Seen, text string) (Hint, bool) {
	for _, p := range patterns {
		if p.words.MatchString(text) || p.when != nil && p.when(s, text) {
			return p.Hint, true
		}
	}
	return Hint{}, false
}

// telling are words by which a line of a log says that something is wrong.
var telling = regexp.MustCompile(`(?i)\b(error|fatal|fail(ed|ure)?|exception|panic|denied|refused|cannot|could not|unable|no such|not found|killed|traceback|invalid|missing|abort(ed)?)\b`)

// Mattering chooses the lines of a log that tell most of a failure: those that
// speak of it with the one before and the one after, else the last; at most
// that many, by their places in order.
func Mattering(lines []string, most int) (places []int) {
	wanted := map[int]bool{}
	for i := len(lines) - 1; i >= 0 && len(wanted) < most; i-- {
		if strings.TrimSpace(lines[i]) == "" {
			continue
		}
		if i >= len(lines)-3 || telling.MatchString(lines[i]) {
			wanted[i] = true
			for _, near := range []int{i + 1, i - 1} {
				if near >= 0 && near < len(lines) && len(wanted) < most {
					wanted[near] = true
				}
			}
		}
	}
	for i := range lines {
		if wanted[i] {
			places = append(places, i)
		}
	}
	return places
}
