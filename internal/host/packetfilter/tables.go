package packetfilter

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
)

// MayKeep says why this process cannot keep a table in the packet filter; nil where it can.
func MayKeep() error {
	if os.Geteuid() != 0 {
		return errors.New("rules of the packet filter are root's, and the agent is not")
	}
	if _, err := exec.LookPath("nft"); err != nil {
		return errors.New("there is no nft here to keep rules of the packet filter with: install nftables")
	}
	return nil
}

// Apply has nft carry out a script, all of it or nothing.
func Apply(ctx context.Context, script string) error {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(script)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("nft does not take the rules: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Drop takes a table of ours away. It may be repeated, also where there is no nft.
func Drop(ctx context.Context, table string) error {
	if !Stands(ctx, table) {
		return nil
	}
	return Apply(ctx, fmt.Sprintf("table inet %[1]s\ndelete table inet %[1]s\n", table))
}

// Stands tells whether a table is there.
func Stands(ctx context.Context, table string) bool {
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	return exec.CommandContext(ctx, "nft", "list", "table", "inet", table).Run() == nil
}
