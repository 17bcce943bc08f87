package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"syscall"
	"time"

	"lanternfield/bench/process"
	"lanternfield/examples"
	"lanternfield/internal/core/arrange"
	"lanternfield/internal/core/field"
	"lanternfield/internal/core/finding"
	"lanternfield/internal/core/place"
	"lanternfield/internal/core/plan"
	"lanternfield/internal/core/whatif"
	"lanternfield/internal/fieldfile"
)

// times runs something several times and gives the median.
func times(n int, do func()) time.Duration {
	var all []time.Duration
	for range n {
		runtime.GC()
		at := time.Now()
		do()
		all = append(all, time.Since(at))
	}
	return median(all)
}

// define measures what defining a large field takes: reading, placing, finding, supposing, opening.
func define(dir string) error {
	line := func(what, figure, promise string) { fmt.Printf("  %-72s %14s   (%s)\n", what, figure, promise) }
	fmt.Println("defining, medians")
	var large *field.Field
	for _, nodes := range []int{200, 5000} {
		for _, ranges := range []bool{true, false} {
			data := examples.Large(nodes, ranges)
			file, err := fieldfile.Parse("large.field.yaml", data, nil)
			if err != nil {
				return err
			}
			large = file.Field
			how, promise := "each named on its own", "the promise is < 300 ms for 5,000 nodes"
			if ranges {
				how = "in ranges"
			}
			line(fmt.Sprintf("parse and check %d nodes %s, 50 roles (%d KiB)", nodes, how, len(data)>>10),
				ms(times(9, func() { _, _ = fieldfile.Parse("large.field.yaml", data, nil) })), promise)
		}
		changed, err := arrange.Count(large, "role-7", large.Role("role-7").Members+1)
		if err != nil {
			return err
		}
		next := changed.On(large)
		scene := sceneOf(next)
		promise := map[int]string{200: "< 16 ms", 5000: "< 150 ms"}[nodes]
		line(fmt.Sprintf("findings and what if after one edit, %d nodes, %d members", nodes, nodes*10),
			ms(times(9, func() { finding.All(next); scene.Fail(whatif.Fault{Zone: "z-3"}) })), promise)
		line(fmt.Sprintf("worst single and double failures, exact, %d nodes", nodes), ms(times(5, func() { scene.WorstFailures(6) })), "doubles up to 5,000 nodes")
	}
	if err := placing(large, line); err != nil {
		return err
	}
	took, memory, err := opening(filepath.Join(dir, "open"))
	if err != nil {
		return err
	}
	line("open a field of 5,000 nodes and 50,000 members, until its board is drawn", ms(took), "< 1 s")
	line("  resident memory then", fmt.Sprintf("%.0f MiB", memory), "< 200 MiB")
	return nil
}

func sceneOf(f *field.Field) *whatif.Scene {
	nodes := f.NodesByName()
	s := &whatif.Scene{Roles: whatif.RolesOf(f)}
	for _, m := range plan.Make(f, plan.Live{}).Adds {
		s.Members = append(s.Members, whatif.Member{Name: m.Name, Role: m.Role, Node: m.Node, Zone: nodes[m.Node].Zone, Works: true, Votes: true})
	}
	return s
}

// placing measures the solver on one core, and checks what it makes.
func placing(f *field.Field, line func(what, figure, promise string)) error {
	cores := runtime.GOMAXPROCS(1)
	defer runtime.GOMAXPROCS(cores)
	var wants []place.Want
	members := 0
	for _, r := range f.Roles {
		w := place.Want{Role: r.Name}
		for i := range r.Members {
			w.Names = append(w.Names, r.Name.Member(i+1))
		}
		members += r.Members
		wants = append(wants, w)
	}
	var placed []place.Member
	took := times(9, func() { placed, _ = place.NewSite(f, nil).Fill(wants) })
	line(fmt.Sprintf("place %d members on %d nodes from scratch, one core", members, len(f.Nodes)),
		fmt.Sprintf("%.2f M/s", float64(members)/took.Seconds()/1e6), "at least 1 M members/s")
	var standing []place.Member
	for _, m := range placed {
		if m.Role != "role-7" {
			standing = append(standing, m)
		}
	}
	w := place.Want{Role: "role-7"}
	for i := range f.Role("role-7").Members + 200 {
		w.Names = append(w.Names, w.Role.Member(i+1))
	}
	line("  place one role of them anew", ms(times(9, func() { place.NewSite(f, standing).Fill([]place.Want{w}) })), "< 50 ms")
	nodes := f.NodesByName()
	perZone, use := map[field.RoleName]map[field.ZoneName]int{}, map[field.NodeName]field.Size{}
	over := 0
	for _, m := range placed {
		if perZone[m.Role] == nil {
			perZone[m.Role] = map[field.ZoneName]int{}
		}
		perZone[m.Role][nodes[m.Node].Zone]++
		u, room := use[m.Node], f.Role(m.Role).Room
		u.CPU, u.Memory, u.Disk = u.CPU+room.CPU, u.Memory+room.Memory, u.Disk+room.Disk
		use[m.Node] = u
		if size := nodes[m.Node].Size; u.CPU > size.CPU || u.Memory > size.Memory || u.Disk > size.Disk {
			over++
		}
	}
	sum, bound := 0, 0
	for _, r := range f.Roles {
		zones := map[field.ZoneName]bool{}
		for _, n := range f.May(&r) {
			zones[nodes[n].Zone] = true
		}
		for _, n := range perZone[r.Name] {
			sum += n * n
		}
		each, more := r.Members/len(zones), r.Members%len(zones)
		bound += (len(zones)-more)*each*each + more*(each+1)*(each+1)
	}
	line("  zone balance, above the lower bound", fmt.Sprintf("%.2f %%", 100*float64(sum-bound)/float64(bound)), "at most 2 %")
	line("  members beyond what their node has", fmt.Sprint(over+members-len(placed)), "none")
	return nil
}

// opening opens the large field on a pseudo-terminal and waits for its board.
func opening(dir string) (time.Duration, float64, error) {
	file := filepath.Join(dir, "large.field.yaml")
	err := os.MkdirAll(dir, 0o755)
	if err == nil {
		err = os.WriteFile(file, examples.Large(5000, true), 0o644)
	}
	if err != nil {
		return 0, 0, err
	}
	var all []time.Duration
	most := 0.0
	for range 3 {
		main, side, err := openPTY(160, 40)
		if err != nil {
			return 0, 0, err
		}
		cmd := exec.Command(*binary, "open", file)
		cmd.Env = append(os.Environ(), "LANTERNFIELD_STATE="+dir, "TERM=xterm-256color", "COLORTERM=truecolor")
		cmd.Stdin, cmd.Stdout, cmd.Stderr = side, side, side
		cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
		at := time.Now()
		if err := cmd.Start(); err != nil {
			return 0, 0, err
		}
		side.Close()
		seen := make(chan struct{})
		go func() {
			defer close(seen)
			var text []byte
			buf := make([]byte, 64<<10)
			for !bytes.Contains(text, []byte("50000 members")) || !bytes.Contains(text, []byte("500 nodes")) {
				n, err := main.Read(buf)
				if err != nil {
					return
				}
				text = append(text, buf[:n]...)
			}
		}()
		<-seen
		all = append(all, time.Since(at))
		go func() { // else it could not write on
			buf := make([]byte, 64<<10)
			for {
				if _, err := main.Read(buf); err != nil {
					return
				}
			}
		}()
		time.Sleep(2 * time.Second)
		_, memory, err := process.Spent(cmd.Process.Pid)
		if err != nil {
			return 0, 0, err
		}
		most = max(most, memory["VmRSS"])
		_, _ = main.Write([]byte("q"))
		_ = cmd.Wait()
		main.Close()
	}
	return median(all), most, nil
}
