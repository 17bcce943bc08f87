package agent

import (
	"crypto/sha256"
	"encoding/hex"
	"io"

	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"syscall"

	"lanternfield/internal/agentapi"
	"lanternfield/internal/host"
	"lanternfield/internal/identity"
)

// identify gets the agent's certificate, and the key with which it seals what it keeps: from who has started it, or as it has kept them.
func (a *Agent) identify() (seal []byte, err error) {
	if a.options.Enrol != nil {
		return a.party.Enrol(a.options.Enrol)
	}
	seal, err = a.party.Load(host.IdentityFile(a.options.Dir))
	if err == nil {
		a.program, err = ownSum()
	}
	a.kept = seal
	return seal, err
}

// ownSum is the checksum of this program, by which a controller sees whether it is the one that it carries.
func ownSum() (string, error) {
	f, err := os.Open("/proc/self/exe")
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// keepIdentity writes a renewed certificate down, where the agent keeps its identity.
func (a *Agent) keepIdentity() error {
	if a.kept == nil {
		return nil
	}
	return a.party.Keep(host.IdentityFile(a.options.Dir), a.kept)
}

// follow takes whose word counts from now on, keeps it, and parts from those whose word does not.
func (a *Agent) follow(signed []byte) error {
	switch err := a.party.Follow(signed); {
	case errors.Is(err, identity.ErrOlder):
		return agentapi.Refuse(http.StatusConflict, err.Error())
	case err != nil:
		return agentapi.Refuse(http.StatusForbidden, err.Error())
	}
	if err := a.keepIdentity(); err != nil {
		return agentapi.Refuse(http.StatusInsufficientStorage, err.Error())
	}
	a.door.Part()
	return nil
}

// Ports are the ports of which an agent takes the first that is free, from First to Last; none where they are zero.
type Ports struct{ First, Last int }

// portBefore is the port at which the agent of this node answered last; 0 where that is not known.
func (a *Agent) portBefore() int {
	var end host.Endpoint
	data, err := os.ReadFile(a.disk.endpoint())
	if err != nil || json.Unmarshal(data, &end) != nil {
		return 0
	}
	at, err := url.Parse(end.URL)
	if err != nil {
		return 0
	}
	port, _ := strconv.Atoi(at.Port())
	return port
}

// listen takes the port of before where that is free, so that who knows it finds the agent there.
func (p Ports) listen(address string, before int) (net.Listener, error) {
	if p.First == 0 {
		return net.Listen("tcp", net.JoinHostPort(address, "0"))
	}
	if before >= p.First && before <= p.Last {
		if l, err := net.Listen("tcp", net.JoinHostPort(address, strconv.Itoa(before))); err == nil {
			return l, nil
		}
	}
	for port := p.First; port <= p.Last; port++ {
		l, err := net.Listen("tcp", net.JoinHostPort(address, strconv.Itoa(port)))
		if !errors.Is(err, syscall.EADDRINUSE) {
			return l, err
		}
	}
	if p.First == p.Last {
		return nil, fmt.Errorf("the port %d of %s is taken", p.First, address)
	}
	return nil, fmt.Errorf("all ports of %s from %d to %d are taken", address, p.First, p.Last)
}
