package runtime

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"lanternfield/internal/core/order"
)

// portHolder checks that the member's ports are free, and says whose one is that is not.
func portHolder(spec *order.Spec) error {
	for name, p := range spec.Ports {
		if p.By != "" { // its agent listens there already
			continue
		}
		if err := Free(name, p, spec.Address); err != nil {
			return err
		}
	}
	return nil
}

// Free checks that a port of a member is free, and says whose it is if it is not.
func Free(name string, p order.Port, main string) error {
	host := cmp.Or(p.Address, main)
	address := net.JoinHostPort(host, strconv.Itoa(p.Number))
	l, err := net.Listen("tcp", address)
	if err == nil {
		return l.Close()
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("its port %s (%s) is in use by %s; end that program, or give the port another number", name, address, whoListens(host, p.Number))
	}
	return fmt.Errorf("its port %s (%s) cannot be used: %w", name, address, err)
}

// whoListens names the process that listens on an address, as far as we may know.
func whoListens(address string, port int) string {
	inode := listeningInode(address, port)
	if inode == "" {
		return "a process that could not be found"
	}
	target := "socket:[" + inode + "]"
	entries, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, fd := range entries {
		if link, err := os.Readlink(fd); err == nil && link == target {
			pid := strings.Split(fd, "/")[2]
			name, _ := os.ReadFile("/proc/" + pid + "/comm")
			return fmt.Sprintf("process %s (%s)", pid, strings.TrimSpace(string(name)))
		}
	}
	return "a process of another user"
}

// listeningInode looks an address up among the kernel's listening sockets.
func listeningInode(address string, port int) string {
	ip := net.ParseIP(address).To4()
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		data, _ := os.ReadFile(table)
		for _, line := range strings.Split(string(data), "\n")[1:] {
			f := strings.Fields(line)
			if len(f) < 10 || f[3] != "0A" {
				continue
			}
			host, hexPort, _ := strings.Cut(f[1], ":")
			p, _ := strconv.ParseInt(hexPort, 16, 32)
			if int(p) != port {
				continue
			}
			any := strings.Trim(host, "0") == ""
			if any || (ip != nil && strings.HasSuffix(host, fmt.Sprintf("%02X%02X%02X%02X", ip[3], ip[2], ip[1], ip[0]))) {
				return f[9]
			}
		}
	}
	return ""
}
