// Package doctor looks a data folder and its machine over, and says what is wrong and
// what to do.
//
// It may import parcel and service/store. What it keeps true: it changes nothing, and
// may be used while a service runs on the folder.
package doctor

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"wiselantern/machine"
	"wiselantern/parcel"
	"wiselantern/service/store"
)

// How something is.
const (
	Well    = "well"
	Warning = "warning" // it will be wrong
	Wrong   = "wrong"
)

// Finding is one thing that was looked at.
type Finding struct {
	Of    string `json:"of"`
	State string `json:"state"`
	Found string `json:"found"`
	Do    string `json:"do,omitempty"` // what to do, where it is not well
}

// What is too little.
const (
	littleRoom   = 1 << 30   // bytes that are free
	noRoom       = 100 << 20 // bytes
	fewFiles     = 1024      // that may be open
	clockMargin  = time.Minute
	secretMode   = 0o077 // rights that nobody else should have
	wellKnown    = "Europe/Oslo"
	installZones = "install the time zone database (Debian: apt-get install tzdata)"
)

// Examine looks a data folder over.
func Examine(ctx context.Context, dir string) []Finding {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return []Finding{{"folder", Wrong, fmt.Sprintf("there is no folder %s", dir), "name the data folder of the service with --data"}}
	}
	all := []Finding{folder(dir), service(dir), room(dir)}
	all = append(all, databases(ctx, dir)...)
	return append(all, clock(ctx, dir), parcels(dir), token(dir), files(), zones())
}

func folder(dir string) Finding {
	probe, err := os.CreateTemp(dir, ".doctor-")
	if err != nil {
		return Finding{"folder", Wrong, fmt.Sprintf("nothing can be written to it: %v", err), "make it writable for the user of the service, and see that its disk is not mounted read-only"}
	}
	probe.Close()
	os.Remove(probe.Name())
	return Finding{Of: "folder", State: Well, Found: "it can be written to"}
}

func service(dir string) Finding {
	if pid := store.Holder(dir); pid != "" {
		return Finding{Of: "service", State: Well, Found: "process " + pid + " runs on it"}
	}
	return Finding{Of: "service", State: Well, Found: "none runs on it"}
}

func room(dir string) Finding {
	free, _, err := machine.Room(dir)
	if err != nil {
		return Finding{"room", Warning, fmt.Sprintf("it cannot be told: %v", err), "look with df"}
	}
	f := Finding{Of: "room", State: Well, Found: fmt.Sprintf("%d MB are free", free>>20)}
	switch {
	case free < noRoom:
		f.State, f.Do = Wrong, "free space on its disk now: the service stops taking work that it cannot record"
	case free < littleRoom:
		f.State, f.Do = Warning, "free space on its disk soon"
	}
	return f
}

func databases(ctx context.Context, dir string) (all []Finding) {
	if err := store.Readable(ctx, dir); err != nil {
		return []Finding{{"schema", Wrong, err.Error(), "run the version of lantern that wrote it, or restore a backup"}}
	}
	for _, name := range []string{store.RecordsFile, store.LogsFile} {
		path := filepath.Join(dir, name)
		info, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			all = append(all, Finding{name, Warning, "it is not there yet", "it is made when a service first runs on the folder; if one has, restore a backup"})
			continue
		}
		if err != nil {
			all = append(all, Finding{name, Wrong, err.Error(), "make it readable for the user of the service"})
			continue
		}
		damage, err := store.Damage(ctx, path)
		switch {
		case err != nil:
			all = append(all, Finding{name, Wrong, err.Error(), "make it readable for the user of the service"})
		case damage != nil:
			all = append(all, Finding{name, Wrong, "it is damaged: " + strings.Join(damage, "; "), "stop the service, keep this folder, and restore a backup into another"})
		default:
			all = append(all, Finding{Of: name, State: Well, Found: fmt.Sprintf("sound, %d KB", (info.Size()+aheadOf(path))>>10)})
		}
	}
	return all
}

// aheadOf is the size of what is written ahead of a database, which belongs to it, in bytes
// (SQLite, Write-Ahead Logging).
func aheadOf(path string) int64 {
	info, err := os.Stat(path + "-wal")
	if err != nil {
		return 0 // it has none when nobody has it open
	}
	return info.Size()
}

func clock(ctx context.Context, dir string) Finding {
	newest, err := store.NewestChange(ctx, dir)
	if err != nil || newest.IsZero() {
		return Finding{Of: "clock", State: Well, Found: "nothing is recorded to compare it with"}
	}
	if ahead := time.Until(newest); ahead > clockMargin {
		return Finding{"clock", Wrong, fmt.Sprintf("it is %s behind the newest record", ahead.Round(time.Second)), "set the machine's clock right (NTP); until then nothing comes due"}
	}
	return Finding{Of: "clock", State: Well, Found: "it is not behind the newest record, of " + newest.Local().Format("2006-01-02 15:04:05")}
}

func parcels(dir string) Finding {
	names, err := filepath.Glob(filepath.Join(dir, "parcels", "*.tar.gz"))
	if err != nil {
		return Finding{"parcels", Wrong, err.Error(), "name the folder without [ or *"}
	}
	var bad []string
	for _, name := range names {
		if damaged(name) {
			bad = append(bad, filepath.Base(name))
		}
	}
	if bad != nil {
		return Finding{"parcels", Wrong, "these are not what they were: " + strings.Join(bad, ", "), "remove them, and apply their projects again"}
	}
	return Finding{Of: "parcels", State: Well, Found: fmt.Sprintf("%d, each as it was applied", len(names))}
}

func damaged(name string) bool {
	file, err := os.Open(name)
	if err != nil {
		return true
	}
	defer file.Close()
	found, err := parcel.Read(file, nil)
	return err != nil || found.Name+".tar.gz" != filepath.Base(name)
}

func token(dir string) Finding {
	info, err := os.Stat(filepath.Join(dir, "token"))
	if err != nil {
		return Finding{Of: "token", State: Well, Found: "it is made when a service runs on the folder"}
	}
	if info.Mode().Perm()&secretMode != 0 {
		return Finding{"token", Warning, fmt.Sprintf("others can read it (%s)", info.Mode().Perm()), "chmod 600 " + filepath.Join(dir, "token")}
	}
	return Finding{Of: "token", State: Well, Found: "nobody else can read it"}
}

func files() Finding {
	most, err := machine.MostFiles()
	if err != nil {
		return Finding{"open files", Warning, err.Error(), "look with ulimit -n"}
	}
	if most < fewFiles {
		return Finding{"open files", Warning, fmt.Sprintf("only %d may be open at once", most), fmt.Sprintf("raise the limit to %d or more (ulimit -n, or LimitNOFILE of the service)", fewFiles)}
	}
	return Finding{Of: "open files", State: Well, Found: fmt.Sprintf("%d may be open at once", most)}
}

func zones() Finding {
	if _, err := time.LoadLocation(wellKnown); err != nil {
		return Finding{"time zones", Wrong, "the machine does not know " + wellKnown, installZones}
	}
	return Finding{Of: "time zones", State: Well, Found: "the machine knows them"}
}
