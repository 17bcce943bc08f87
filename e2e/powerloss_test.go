package e2e

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// disk is what a file system holds: folders, and files with their content.
type disk struct {
	folders map[string]bool
	files   map[string][]byte
}

func (d *disk) clone() *disk {
	files := make(map[string][]byte, len(d.files)) // contents are replaced, never changed in place
	maps.Copy(files, d.files)
	return &disk{maps.Clone(d.folders), files}
}

// lose gives what of it may be left after a power loss: names as they were at the last sync of anything, and of each file what was
// synced of itself.
func (d *disk) lose(synced map[string][]byte) *disk {
	left := &disk{maps.Clone(d.folders), map[string][]byte{}}
	for name := range d.files {
		left.files[name] = synced[name]
	}
	return left
}

// moment is the disk after one call, and what of it would be left in the worst case.
type moment struct {
	what     string
	all, few *disk
}

var (
	callLine  = regexp.MustCompile(`^(\d+)\s+([\d.]+) (.*)$`)
	callParts = regexp.MustCompile(`^(\w+)\((.*)\)\s+= (-?\d+)(?:<(.*)>)?`)
	fdPath    = regexp.MustCompile(`^(?:\d+|AT_FDCWD)<((?:[^>\\]|\\.)*)>`)
	quoted    = regexp.MustCompile(`"((?:[^"\\]|\\.)*)"`)
)

func unhex(s string) string {
	if text, err := strconv.Unquote(`"` + s + `"`); err == nil {
		return text
	}
	return s
}

// replay turns traces of a program's calls into what the disk held below a folder after each of them that makes a difference.
func replay(t *testing.T, root string, traces ...string) []moment {
	t.Helper()
	type call struct {
		at   float64
		text string
	}
	var calls []call
	for _, name := range traces {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		open := map[string]string{}
		for _, line := range strings.Split(string(data), "\n") {
			m := callLine.FindStringSubmatch(line)
			if m == nil {
				continue
			}
			pid, text := m[1], m[3]
			if head, ok := strings.CutSuffix(text, " <unfinished ...>"); ok {
				open[pid] = head
				continue
			}
			if i := strings.Index(text, " resumed>"); i > 0 && strings.HasPrefix(text, "<... ") {
				text = open[pid] + text[i+len(" resumed>"):]
			}
			at, _ := strconv.ParseFloat(m[2], 64)
			calls = append(calls, call{at, text})
		}
	}
	sort.SliceStable(calls, func(i, j int) bool { return calls[i].at < calls[j].at })
	now := &disk{map[string]bool{}, map[string][]byte{}}
	synced, names := map[string][]byte{}, now.clone()
	place := map[string]int{} // of a descriptor in its file
	below := func(path string) bool { return strings.HasPrefix(path, root+"/") }
	var out []moment
	for _, c := range calls {
		m := callParts.FindStringSubmatch(c.text)
		if m == nil || strings.HasPrefix(m[3], "-") {
			continue
		}
		name, args, ret := m[1], m[2], unhex(m[4])
		fd := ""
		if f := fdPath.FindStringSubmatch(args); f != nil {
			fd = strings.TrimSuffix(unhex(f[1]), " (deleted)")
		}
		number, _, _ := strings.Cut(args, "<")
		var texts []string
		for _, q := range quoted.FindAllStringSubmatch(fdPath.ReplaceAllString(args, ""), -1) {
			texts = append(texts, unhex(q[1]))
		}
		numbers := strings.Split(args, ", ")
		last, _ := strconv.Atoi(numbers[len(numbers)-1])
		at := func(dir, path string) string {
			if filepath.IsAbs(path) {
				return filepath.Clean(path)
			}
			return filepath.Join(dir, path)
		}
		put := func(path string, offset int, data string) {
			old := now.files[path]
			fresh := make([]byte, max(len(old), offset+len(data)))
			copy(fresh, old)
			copy(fresh[offset:], data)
			now.files[path] = fresh
		}
		changed := false
		switch name {
		case "open", "openat", "openat2":
			if !below(ret) || now.folders[ret] {
				continue
			}
			_, there := now.files[ret]
			if !there && strings.Contains(args, "O_CREAT") || strings.Contains(args, "O_TRUNC") {
				now.files[ret], changed = nil, true
			}
			place[m[3]+ret] = 0
			if strings.Contains(args, "O_APPEND") {
				place[m[3]+ret] = -1
			}
		case "write":
			if _, there := now.files[fd]; !there || len(texts) == 0 {
				continue
			}
			offset := place[number+fd]
			if offset < 0 {
				offset = len(now.files[fd])
			} else {
				place[number+fd] += len(texts[0])
			}
			put(fd, offset, texts[0])
			changed = true
		case "pwrite64":
			if _, there := now.files[fd]; there && len(texts) > 0 {
				put(fd, last, texts[0])
				changed = true
			}
		case "ftruncate":
			if old, there := now.files[fd]; there {
				fresh := make([]byte, last)
				copy(fresh, old)
				now.files[fd], changed = fresh, true
			}
		case "fsync", "fdatasync":
			if !below(fd) && fd != root {
				continue
			}
			if data, there := now.files[fd]; there {
				synced[fd] = data
			}
			names, changed = now.clone(), true
		case "rename", "renameat", "renameat2":
			if len(texts) < 2 {
				continue
			}
			from, to := at(fd, texts[0]), at(fd, texts[1])
			if !below(from) {
				continue
			}
			changed = true
			for path, data := range now.files {
				if path == from || strings.HasPrefix(path, from+"/") {
					delete(now.files, path)
					now.files[to+path[len(from):]] = data
					synced[to+path[len(from):]] = synced[path]
				}
			}
			for path := range maps.Clone(now.folders) {
				if path == from || strings.HasPrefix(path, from+"/") {
					delete(now.folders, path)
					now.folders[to+path[len(from):]] = true
				}
			}
		case "unlink", "unlinkat", "rmdir":
			if len(texts) > 0 {
				path := at(fd, texts[0])
				_, file := now.files[path]
				changed = file || now.folders[path]
				delete(now.files, path)
				delete(now.folders, path)
				if !strings.HasSuffix(path, ".new") {
					delete(synced, path)
				}
			}
		case "mkdir", "mkdirat":
			if path := at(fd, texts[0]); below(path) || path == root {
				now.folders[path], changed = true, true
			}
		}
		if !changed {
			continue
		}

		out = append(out, moment{name + " " + fd + " " + strings.Join(texts[:min(1, len(texts))], ""), now.clone(), names.lose(synced)})
	}
	return out
}

// lay puts a disk where it was, as after the start of another machine.
func (d *disk) lay(t *testing.T, root string) {
	t.Helper()
	if err := os.RemoveAll(root); err != nil {
		t.Fatal(err)
	}
	for _, name := range slices.Sorted(maps.Keys(d.folders)) {
		if err := os.MkdirAll(name, 0o711); err != nil {
			t.Fatal(err)
		}
	}
	boot := regexp.MustCompile(`"boot":"[^"]*"`)
	for name, data := range d.files {
		if strings.HasSuffix(name, ".json") && !bytes.HasPrefix(data, []byte("sealed")) {
			data = boot.ReplaceAll(data, []byte(`"boot":"before"`))
		}
		if err := os.MkdirAll(filepath.Dir(name), 0o711); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// TestAPowerLossAtAnyMoment records what a deploy, a scale and a retire write and sync, lays the disk as a power loss could have left it
// after some of those calls, in the best case and in the worst, and goes on from there. With LANTERNFIELD_SOAK it tries every one.
func TestAPowerLossAtAnyMoment(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip("what is written is recorded with strace")
	}
	x := newTrial(t, `format: 1
field: power
nodes: [{name: "gull-{1..2}"}]
roles:
  crews:
    members: 2
    spread: none
    program:
      command: [{{witness}}, '{{.Address}}:{{.Port "main"}}']
      ports: {main: {from: 7100, to: 7199}}
      files: {it.conf: {template: '{{.Secret "a"}}'}}
`)
	traced := func(trace string, args ...string) {
		t.Helper()
		inner := x.command(context.Background(), args...)
		cmd := exec.Command("strace", append([]string{"-f", "-ttt", "-y", "-xx", "-s", "1000000", "-o", trace, "-e",
			"trace=open,openat,openat2,write,pwrite64,ftruncate,fsync,fdatasync,rename,renameat,renameat2,unlink,unlinkat,rmdir,mkdir,mkdirat"}, inner.Args...)...)
		cmd.Env, cmd.Dir = inner.Env, inner.Dir
		log, err := os.Create(trace + ".out")
		if err != nil {
			t.Fatal(err)
		}
		defer log.Close()
		cmd.Stdout, cmd.Stderr = log, log
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		go func() { _ = cmd.Wait() }() // it goes on with the agents
	}
	first, second, third := filepath.Join(x.dir, "1.trace"), filepath.Join(x.dir, "2.trace"), filepath.Join(x.dir, "3.trace")
	done := func(trace, what string) {
		t.Helper()
		defer func() {
			if t.Failed() {
				t.Log(read(t, trace+".out"))
			}
		}()
		x.until(what, 20*time.Second, func() bool { return strings.Contains(read(t, trace+".out"), what) })
	}
	traced(first, "deploy", x.file, "--yes")
	done(first, "power is converged")
	traced(second, "scale", x.file, "crews", "3", "--yes")
	done(second, "power is converged")
	scaled := read(t, x.file)
	traced(third, "retire", x.file, "--yes")
	done(third, "found none")
	x.until("all that was traced has ended", 20*time.Second, func() bool { return len(x.processes())+x.keepers() == 0 })

	moments := replay(t, x.state, first, second, third)
	soak := os.Getenv("LANTERNFIELD_SOAK") != ""
	step := len(moments)/6 + 1
	if soak {
		step = 1
		if text := os.Getenv("LANTERNFIELD_STEP"); text != "" {
			step, _ = strconv.Atoi(text)
		}
	}
	tried, seen := 0, map[string]bool{}
	for i := step / 2; i < len(moments); i += step {
		for which, d := range map[string]*disk{"all of it": moments[i].all, "what was synced": moments[i].few} {
			key := fmt.Sprint(which, len(d.files), len(d.folders), moments[i].what)
			if seen[key] && soak {
				continue
			}
			seen[key] = true
			tried++
			x.alone()
			d.lay(t, x.state)
			x.write(scaled)
			out, code := x.try(time.Minute, "deploy", x.file, "--yes", "--timeout", "40s")
			retiring := strings.Contains(out, "is being retired")
			if retiring { // the keeper carries on with that, and may have come to its end
				x.alone()
				code = 0
			} else if s, running := x.status(), x.soon(3, 5*time.Second); code == 0 && (s.State != "converged" || !running) {
				t.Errorf("moment %d of %d, %s, %s: %d run, and it says %s: %s", i, len(moments), moments[i].what, which, x.witnesses(), s.State, s.Verdict)
			}
			if code != 0 {
				t.Errorf("moment %d of %d, %s, %s: deploy: exit status %d\n%s", i, len(moments), moments[i].what, which, code, tail(out, 12))
			}
			out, code = x.try(time.Minute, "retire", x.file, "--yes")
			if retiring && strings.Contains(out, "power is not deployed, so there is nothing to retire") {
				code = 0
			}
			if left := x.processes(); code != 0 || len(left) > 0 {
				t.Errorf("moment %d of %d, %s, %s: retire: exit status %d, %v left\n%s", i, len(moments), moments[i].what, which, code, left, tail(out, 12))
				for _, p := range left {
					_ = syscall.Kill(p.pid, syscall.SIGKILL)
				}
			}
			if t.Failed() && tried > 20 {
				t.Fatalf("given up after %d", tried)
			}
		}
	}
	t.Logf("%d disks of %d moments were gone on from", tried, len(moments))
	os.RemoveAll(x.state)
}

func read(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
