package floating

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"
)

// kernel has addresses on this machine's interfaces. It gives each a time after which the system itself takes it away, so that a holder that hangs, or is
// killed, has it no longer than its lease.
type kernel struct {
	link netlink.Link // on which the address was put last
}

func alone32(a netip.Addr) *net.IPNet {
	return &net.IPNet{IP: a.AsSlice(), Mask: net.CIDRMask(a.BitLen(), a.BitLen())}
}

// Put has the address on the interface that has the other one, for that long.
func (k *kernel) Put(a, near netip.Addr, life time.Duration) error {
	if k.link == nil {
		link, err := interfaceOf(near)
		if err != nil {
			return err
		}
		k.link = link
	}
	seconds := int(life / time.Second)
	addr := &netlink.Addr{IPNet: alone32(a), ValidLft: seconds, PreferedLft: seconds}
	if a.Is6() {
		addr.PreferedLft = 0 // nothing is to be sent from it but answers
		addr.Flags = unix.IFA_F_NODAD
	}
	if err := netlink.AddrReplace(k.link, addr); err != nil {
		k.link = nil // it may be another one by now
		return denied(err)
	}
	return nil
}

func denied(err error) error {
	if errors.Is(err, unix.EPERM) {
		return errors.New("only root may change a machine's addresses")
	}
	return err
}

// interfaceOf finds the interface that has an address.
func interfaceOf(near netip.Addr) (netlink.Link, error) {
	all, err := netlink.AddrList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return nil, err
	}
	for _, a := range all {
		if ip, ok := netip.AddrFromSlice(a.IP); ok && ip.Unmap() == near {
			return netlink.LinkByIndex(a.LinkIndex)
		}
	}
	return nil, fmt.Errorf("no interface has the address %s", near)
}

// Remove takes the address away. One that is not there is away.
func (k *kernel) Remove(a netip.Addr) error {
	link, err := interfaceOf(a)
	if err != nil {
		return nil
	}
	if err := netlink.AddrDel(link, &netlink.Addr{IPNet: alone32(a)}); err != nil && !errors.Is(err, unix.EADDRNOTAVAIL) {
		return denied(err)
	}
	return nil
}

// Announce tells who is on the network that the address is here: by gratuitous ARP (RFC 5227), or an unsolicited neighbour advertisement (RFC 4861, 7.2.6).
func (k *kernel) Announce(a netip.Addr) error {
	if k.link == nil {
		return nil
	}
	card := k.link.Attrs().HardwareAddr
	if len(card) != 6 {
		return nil // a network without such addresses, where nobody remembers any
	}
	if a.Is4() {
		return errors.Join(k.send(gratuitous(a, card, 1)), k.send(gratuitous(a, card, 2)))
	}
	conn, err := icmp.ListenPacket("ip6:ipv6-icmp", a.String())
	if err != nil {
		return err
	}
	defer conn.Close()
	out := conn.IPv6PacketConn()
	if err := errors.Join(out.SetMulticastHopLimit(255), out.SetHopLimit(255)); err != nil {
		return err
	}
	everybody := &net.IPAddr{IP: net.IPv6linklocalallnodes, Zone: k.link.Attrs().Name}
	_, err = out.WriteTo(advertisement(a, card), &ipv6.ControlMessage{IfIndex: k.link.Attrs().Index, HopLimit: 255}, everybody)
	return err
}

// gratuitous is a frame with an announcement by ARP: a request (1), or an answer that nobody asked for (2), since some hear only one of them.
func gratuitous(a netip.Addr, card net.HardwareAddr, what uint16) []byte {
	everybody := []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}
	var f []byte
	f = append(f, everybody...)
	f = append(f, card...)
	f = binary.BigEndian.AppendUint16(f, unix.ETH_P_ARP)
	f = binary.BigEndian.AppendUint16(f, 1) // Ethernet
	f = binary.BigEndian.AppendUint16(f, unix.ETH_P_IP)
	f = append(f, 6, 4)
	f = binary.BigEndian.AppendUint16(f, what)
	ip := a.As4()
	f = append(f, card...)
	f = append(f, ip[:]...)
	f = append(f, everybody...)
	return append(f, ip[:]...)
}

// advertisement is an announcement of an IPv6 address. The system puts in the checksum.
func advertisement(a netip.Addr, card net.HardwareAddr) []byte {
	const advertises, override, ofTarget = 136, 0x20, 2
	ip := a.As16()
	m := []byte{advertises, 0, 0, 0, override, 0, 0, 0}
	m = append(m, ip[:]...)
	m = append(m, ofTarget, 1)
	return append(m, card...)
}

// send puts a frame on the interface's network.
func (k *kernel) send(frame []byte) error {
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_RAW|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return denied(err)
	}
	defer unix.Close(fd)
	to := &unix.SockaddrLinklayer{Protocol: 0x0608, Ifindex: k.link.Attrs().Index, Halen: 6, Addr: [8]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}} // ETH_P_ARP, as it is sent
	return unix.Sendto(fd, frame, 0, to)
}
