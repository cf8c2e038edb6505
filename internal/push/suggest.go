package push

import (
	"context"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"magpie/internal/core"
)

// suggested is how many checks are suggested at most: more than a person reads are none.
const suggested = 6

// Suggest names checks that tell whether a device still does its work after a push: the
// devices that hang on it, the one that it hangs on, other devices whose addresses its
// configuration names, and the neighbours and gateways that stand in its own networks.
func (s *Service) Suggest(ctx context.Context, actor core.Actor, p Preview) (out []string, err error) {
	q := s.Store.As(actor)
	d, err := q.DeviceByID(ctx, p.DeviceID)
	if err != nil {
		return nil, err
	}
	add := func(check string) {
		if len(out) < suggested && !slices.Contains(out, check) {
			out = append(out, check)
		}
	}
	kids, err := q.Children(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(kids, func(k core.Device) bool { return k.Member == "" }) {
		add("children")
	}
	if d.Parent != "" && d.Member == "" {
		add("device " + d.Parent)
	}
	dia := s.DialectOf(d)
	if dia == nil || dia.Doc(p.Part) == nil || dia.Doc(p.Part).Opaque() {
		return out, nil
	}
	named, beside := addresses(p.Predicted)
	for _, a := range beside {
		if dia.Echo != nil {
			add("from " + d.Name + " ping " + a.String())
		} else {
			add("ping " + a.String())
		}
	}
	for _, a := range named {
		other, err := q.NameAt(ctx, a.String(), d.ID)
		if err != nil {
			return nil, err
		}
		if other != "" {
			add("device " + other)
		}
	}
	return out, nil
}

var (
	network = regexp.MustCompile(`\b(?:\d{1,3}\.){3}\d{1,3}(?:/\d{1,2}|[ \t]+255(?:\.\d{1,3}){3})`)
	address = regexp.MustCompile(`\b(?:\d{1,3}\.){3}\d{1,3}\b(?:/\d{1,2})?`)
)

// addresses reads the addresses of a configuration: all that it names, and those among
// them that stand in a network the device itself has an address in. Its own are left
// out, and so are addresses of networks.
func addresses(text string) (named, beside []netip.Addr) {
	var nets []netip.Prefix
	own := map[netip.Addr]bool{}
	for _, m := range network.FindAllString(text, -1) {
		if p, ok := prefix(m); ok && p.Bits() > 0 {
			own[p.Addr()] = true
			if p.Bits() < 32 && p.Addr() != p.Masked().Addr() {
				nets = append(nets, p.Masked())
			}
		}
	}
	seen := map[netip.Addr]bool{}
	for _, m := range address.FindAllString(text, -1) {
		a, err := netip.ParseAddr(m)
		if err != nil || own[a] || seen[a] || a.IsUnspecified() || a.IsMulticast() || a.IsLoopback() || a.As4()[0] == 255 {
			continue
		}
		seen[a] = true
		named = append(named, a)
		if slices.ContainsFunc(nets, func(n netip.Prefix) bool { return n.Contains(a) && a != n.Addr() && n.Contains(a.Next()) }) { // neither its first nor its last
			beside = append(beside, a)
		}
	}
	return named, beside
}

// prefix reads an address with its network: 10.1.2.3/24, or with a mask behind it.
func prefix(s string) (netip.Prefix, bool) {
	if p, err := netip.ParsePrefix(s); err == nil {
		return p, true
	}
	both := strings.Fields(s)
	if len(both) != 2 {
		return netip.Prefix{}, false
	}
	a, err1 := netip.ParseAddr(both[0])
	mask, err2 := netip.ParseAddr(both[1])
	ones, of := net.IPMask(mask.AsSlice()).Size() // of is 0 where it is no mask
	return netip.PrefixFrom(a, ones), err1 == nil && err2 == nil && of > 0
}
