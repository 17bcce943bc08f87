package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

const voters = `format: 1
field: bench-voters
nodes: [{name: "gull-{1..2}", zone: north-quay}, {name: "tern-{1..2}", zone: south-quay}, {name: puffin-1, zone: lighthouse}]
roles:
  store: {kit: etcd, members: 3}
`

// scales times three etcd members becoming five and three again against a script with the same safety, in turn.
func scales(dir string) error {
	type way struct{ out, in, all []time.Duration }
	var ours, hands way
	n := max(1, *pairs/3)
	for i := range n {
		out, in, err := scaleOnce(filepath.Join(dir, fmt.Sprint("ours-", i)))
		if err != nil {
			return err
		}
		ours.out, ours.in, ours.all = append(ours.out, out), append(ours.in, in), append(ours.all, out+in)
		if out, in, err = scaleByHand(filepath.Join(dir, fmt.Sprint("hand-", i)), fmt.Sprintf("127.61.%d", i+1)); err != nil {
			return err
		}
		hands.out, hands.in, hands.all = append(hands.out, out), append(hands.in, in), append(hands.all, out+in)
	}
	fmt.Printf("etcd 3 to 5 to 3, %d interleaved pairs\n", n)
	for _, part := range []struct {
		name        string
		ours, hands []time.Duration
	}{{"3 to 5", ours.out, hands.out}, {"5 to 3", ours.in, hands.in}, {"in all", ours.all, hands.all}} {
		spread("  "+part.name+", lanternfield", part.ours)
		spread("  "+part.name+", by hand     ", part.hands)
		fmt.Printf("  %s: ratio of medians %.2f\n", part.name, float64(median(part.ours))/float64(median(part.hands)))
	}
	return nil
}

func scaleOnce(dir string) (out, in time.Duration, err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, 0, err
	}
	file, state := filepath.Join(dir, "voters.field.yaml"), filepath.Join(dir, "state")
	if err := os.WriteFile(file, []byte(voters), 0o644); err != nil {
		return 0, 0, err
	}
	if _, err := run(state, "deploy", file, "--yes"); err != nil {
		return 0, 0, err
	}
	time.Sleep(6 * time.Second) // etcd refuses changes until all have been connected for five
	begin := time.Now()
	if _, err = run(state, "scale", file, "store", "5", "--yes"); err == nil {
		out = time.Since(begin)
		begin = time.Now()
		_, err = run(state, "scale", file, "store", "3", "--yes")
		in = time.Since(begin)
	}
	if _, last := run(state, "retire", file, "--yes", "--forget"); err == nil {
		err = last
	}
	return out, in, err
}

func scaleByHand(dir, network string) (out, in time.Duration, err error) {
	answer, err := exec.Command("bench/scale-by-hand.sh", dir, network).Output()
	if err != nil {
		return 0, 0, err
	}
	var outMS, inMS int
	if _, err := fmt.Sscan(string(answer), &outMS, &inMS); err != nil {
		return 0, 0, fmt.Errorf("scale-by-hand.sh said %q", answer)
	}
	return time.Duration(outMS) * time.Millisecond, time.Duration(inMS) * time.Millisecond, nil
}
