package expr

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
)

// timeFunctions are what a data engineer needs of time beyond CEL's own:
//
//	format(moment, "%Y-%m-%d", "Europe/Oslo")   as POSIX date writes it
//	truncate(moment, "day", "Europe/Oslo")      hour, day, week (Monday), month, year
//	add(moment, "2d", "Europe/Oslo")            days and weeks on the wall clock, negative with -
func timeFunctions() []cel.EnvOption {
	three := func(name string, result *cel.Type, do func(at time.Time, word string, zone *time.Location) (ref.Val, error)) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_moment_text_zone", []*cel.Type{cel.TimestampType, cel.StringType, cel.StringType}, result,
			cel.FunctionBinding(func(args ...ref.Val) ref.Val {
				zoneName, _ := args[2].Value().(string)
				zone, err := time.LoadLocation(zoneName)
				if err != nil {
					return types.NewErr("%s: there is no zone %q", name, zoneName)
				}
				at, _ := args[0].Value().(time.Time)
				word, _ := args[1].Value().(string)
				value, err := do(at.In(zone), word, zone)
				if err != nil {
					return types.NewErr("%s: %v", name, err)
				}
				return value
			})))
	}
	return []cel.EnvOption{
		three("format", cel.StringType, func(at time.Time, pattern string, _ *time.Location) (ref.Val, error) {
			text, err := formatTime(at, pattern)
			return types.String(text), err
		}),
		three("truncate", cel.TimestampType, func(at time.Time, unit string, zone *time.Location) (ref.Val, error) {
			cut, err := truncate(at, unit, zone)
			return types.Timestamp{Time: cut}, err
		}),
		three("add", cel.TimestampType, func(at time.Time, text string, _ *time.Location) (ref.Val, error) {
			moved, err := addTime(at, text)
			return types.Timestamp{Time: moved}, err
		}),
	}
}

// formatTime writes a moment by a pattern of POSIX date (IEEE Std 1003.1, date,
// Conversion Specifications), as far as it does not hang on a language.
func formatTime(at time.Time, pattern string) (string, error) {
	layouts := map[byte]string{'Y': "2006", 'm': "01", 'd': "02", 'H': "15", 'M': "04", 'S': "05", 'y': "06", 'j': "002", 'z': "-0700", 'Z': "MST", 'F': "2006-01-02", 'T': "15:04:05"}
	var out strings.Builder
	for i := 0; i < len(pattern); i++ {
		if pattern[i] != '%' {
			out.WriteByte(pattern[i])
			continue
		}
		i++
		if i == len(pattern) {
			return "", fmt.Errorf("the pattern %q ends in a single %%; write %%%%", pattern)
		}
		year, week := at.ISOWeek()
		switch c := pattern[i]; {
		case layouts[c] != "":
			out.WriteString(at.Format(layouts[c]))
		case c == '%':
			out.WriteByte('%')
		case c == 's':
			out.WriteString(strconv.FormatInt(at.Unix(), 10))
		case c == 'G':
			out.WriteString(strconv.Itoa(year))
		case c == 'V':
			fmt.Fprintf(&out, "%02d", week)
		default:
			return "", fmt.Errorf("%%%c is not known; known are %%Y %%m %%d %%H %%M %%S %%F %%T %%y %%j %%G %%V %%z %%Z %%s %%%%", c)
		}
	}
	return out.String(), nil
}

// truncate is the beginning of the unit that a moment lies in, on the wall clock
// of its zone. A beginning that the clock jumps over is the first moment after it.
func truncate(at time.Time, unit string, zone *time.Location) (time.Time, error) {
	year, month, day := at.Date()
	switch unit {
	case "hour":
		return at.Add(-time.Duration(at.Minute())*time.Minute - time.Duration(at.Second())*time.Second - time.Duration(at.Nanosecond())), nil
	case "day":
	case "week":
		day -= (int(at.Weekday()) + 6) % 7
	case "month":
		day = 1
	case "year":
		month, day = 1, 1
	default:
		return at, fmt.Errorf("%q is not a unit; write hour, day, week, month or year", unit)
	}
	start := time.Date(year, month, day, 0, 0, 0, 0, zone)
	if start.Hour() != 0 { // midnight does not exist: time.Date may have gone back
		if from, _ := start.Add(2 * time.Hour).ZoneBounds(); from.After(start) {
			start = from
		}
	}
	return start, nil
}

// addTime moves a moment by a length of time: days and weeks on the wall clock,
// the rest in elapsed time.
func addTime(at time.Time, text string) (time.Time, error) {
	sign := 1
	rest, negative := strings.CutPrefix(text, "-")
	if negative {
		sign = -1
	}
	days := 0
	for rest != "" {
		digits := len(rest) - len(strings.TrimLeft(rest, "0123456789"))
		unit := ""
		if digits < len(rest) {
			unit = rest[digits : digits+1]
		}
		if unit != "d" && unit != "w" {
			break
		}
		n, err := strconv.Atoi(rest[:digits])
		if err != nil {
			return at, fmt.Errorf("%q is not a length of time", text)
		}
		if unit == "w" {
			n *= 7
		}
		days += n
		rest = rest[digits+1:]
	}
	at = at.AddDate(0, 0, sign*days)
	if rest == "" {
		if days == 0 {
			return at, fmt.Errorf("%q is not a length of time; write it as 2d, 90m or -1w", text)
		}
		return at, nil
	}
	d, err := time.ParseDuration(rest)
	if err != nil {
		return at, fmt.Errorf("%q is not a length of time; write it as 2d, 90m or -1w", text)
	}
	return at.Add(time.Duration(sign) * d), nil
}
