// Package demo holds the example: a made-up network of river gauges, the
// generator of its readings, and the workflows that work them.
package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

//go:embed project
var project embed.FS

// Place is a folder that holds the example.
type Place struct{ Dir string }

// Project is the folder of the example's project.
func (p Place) Project() string { return filepath.Join(p.Dir, "project") }

// River is the folder in which readings come in and results are kept.
func (p Place) River() string { return filepath.Join(p.Dir, "river") }

// history is how much of the past has readings.
const history = 31 * 24 * time.Hour

// Write writes the project, unless it is there (so that what a reader changed in
// it stays), and the readings up to now. Partner is the HOST:PORT of the weather
// office.
func (p Place) Write(now time.Time, partner string) error {
	if _, err := os.Stat(p.Project()); err != nil {
		if err := p.writeProject(partner); err != nil {
			return fmt.Errorf("write the example project: %w", err)
		}
	}
	return p.generate(now)
}

func (p Place) writeProject(partner string) error {
	return fs.WalkDir(project, "project", func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		target := filepath.Join(p.Dir, filepath.FromSlash(name))
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := fs.ReadFile(project, name)
		if err != nil {
			return err
		}
		text = []byte(strings.NewReplacer("@RIVER@", p.River(), "@PARTNER@", partner).Replace(string(text)))
		mode := fs.FileMode(0o644)
		if strings.HasPrefix(name, "project/bin/") { // embedding forgets run bits
			mode = 0o755
		}
		return os.WriteFile(target, text, mode)
	})
}

// Keep writes the readings of each hour when it is over, until ctx is done.
func (p Place) Keep(ctx context.Context) error {
	for {
		next := time.Now().Truncate(time.Hour).Add(time.Hour)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(time.Until(next)):
		}
		if err := p.generate(time.Now()); err != nil {
			return err
		}
	}
}

// generate writes the files of the hours that are over and have none yet.
func (p Place) generate(now time.Time) error {
	radio := filepath.Join(p.River(), "radio")
	if err := os.MkdirAll(radio, 0o755); err != nil {
		return fmt.Errorf("write the readings: %w", err)
	}
	end := now.UTC().Truncate(time.Hour)
	for hour := end.Add(-history).Truncate(24 * time.Hour); hour.Before(end); hour = hour.Add(time.Hour) {
		name := filepath.Join(radio, hour.Format("2006-01-02T15")+".csv")
		if exists(name) || exists(name+".late") {
			continue
		}
		text, late := Hour(hour, now)
		if late {
			name += ".late"
		}
		if err := os.WriteFile(name+".part", []byte(text), 0o644); err != nil {
			return fmt.Errorf("write the readings: %w", err)
		}
		if err := os.Rename(name+".part", name); err != nil {
			return fmt.Errorf("write the readings: %w", err)
		}
	}
	return nil
}

func exists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}
