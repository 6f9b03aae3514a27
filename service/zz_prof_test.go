package service_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wiselantern/client"
	"wiselantern/internal/testkit"
)

func cpuOf(pid int) (u, s float64) {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	f := strings.Fields(string(text)[strings.LastIndex(string(text), ")")+2:])
	var a, b float64
	fmt.Sscan(f[11], &a)
	fmt.Sscan(f[12], &b)
	return a / 100, b / 100
}

func TestZZProfile(t *testing.T) {
	if os.Getenv("LANTERN_PROFILES") == "" {
		t.Skip()
	}
	workflow, makefile, _ := graph(5000)
	dir := t.TempDir()
	os.WriteFile(filepath.Join(dir, "Makefile"), []byte(makefile), 0o600)
	data := t.TempDir()
	s := testkit.Serve(t, data, "--slots", "4")
	s.Apply(t, workflow)
	out, _ := exec.Command("pgrep", "-f", data).Output()
	var pids []int
	for _, f := range strings.Fields(string(out)) {
		var p int
		fmt.Sscan(f, &p)
		pids = append(pids, p)
	}
	for i := range 3 {
		if i == 1 && os.Getenv("LANTERN_PROFILES") != "-" {
			for _, p := range pids {
				syscall.Kill(p, syscall.SIGUSR1)
			}
		}
		before := map[int][2]float64{}
		for _, p := range pids {
			u, sy := cpuOf(p)
			before[p] = [2]float64{u, sy}
		}
		run, err := s.Client.Start(context.Background(), "graph-5000", client.StartRequest{})
		if err != nil {
			t.Fatal(err)
		}
		run, err = s.Client.FollowRun(context.Background(), run.ID, nil)
		if err != nil || run.State != "succeeded" {
			t.Fatal(err)
		}
		fmt.Printf("ours %.2f s", run.Ended.Sub(run.Created).Seconds())
		for _, p := range pids {
			u, sy := cpuOf(p)
			name, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", p))
			fmt.Printf("  [%s u %.2f s %.2f]", strings.Split(string(name), "\x00")[1], u-before[p][0], sy-before[p][1])
		}
		fmt.Println()
		if i == 1 && os.Getenv("LANTERN_PROFILES") != "-" {
			for _, p := range pids {
				syscall.Kill(p, syscall.SIGUSR2)
			}
			time.Sleep(300 * time.Millisecond)
		}
		c := exec.Command("make", "-s", "-j4")
		c.Dir = dir
		began := time.Now()
		c.Run()
		fmt.Printf("make %.2f s (u %.2f s %.2f)", time.Since(began).Seconds(), c.ProcessState.UserTime().Seconds(), c.ProcessState.SystemTime().Seconds())
		fmt.Printf("  bare %.2f s\n", bareStarts(t, 5000).Seconds())
	}
}
