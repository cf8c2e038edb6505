package ref

import (
	"fmt"
	"net/netip"
	"strings"
)

// MostAddresses is how many addresses ranges may name together.
const MostAddresses = 4096

// Addresses lists what ranges name, each once and in their order: 192.0.2.0/26 (without the
// network's own address and the one for all, RFC 919), 192.0.2.10-192.0.2.40, 192.0.2.10-40,
// 192.0.2.7; IPv6 alike.
func Addresses(ranges []string) ([]netip.Addr, error) {
	var out []netip.Addr
	seen := map[netip.Addr]bool{}
	for _, word := range ranges {
		first, last, err := span(strings.TrimSpace(word))
		if err != nil {
			return nil, err
		}
		for a := first; ; a = a.Next() {
			if !seen[a] {
				if len(out) == MostAddresses {
					return nil, fmt.Errorf("%s: that is more than %d addresses together; sweep them in pieces", word, MostAddresses)
				}
				seen[a] = true
				out = append(out, a)
			}
			if a == last || !a.IsValid() {
				break
			}
		}
	}
	return out, nil
}

// span is the first and the last address of a range.
func span(word string) (first, last netip.Addr, err error) {
	no := func() (netip.Addr, netip.Addr, error) {
		return first, last, fmt.Errorf("%q is no range of addresses; write it like 192.0.2.0/26, 192.0.2.10-192.0.2.40 or 192.0.2.7", word)
	}
	if p, err := netip.ParsePrefix(word); err == nil {
		if p != p.Masked() {
			return first, last, fmt.Errorf("%s is an address within %s; write the network, or the address alone", word, p.Masked())
		}
		first = p.Addr()
		raw := first.AsSlice()
		for i := p.Bits(); i < len(raw)*8; i++ {
			raw[i/8] |= 0x80 >> (i % 8)
		}
		last, _ = netip.AddrFromSlice(raw)
		if first.Is4() && p.Bits() < 31 {
			first, last = first.Next(), last.Prev()
		}
		return first, last, nil
	}
	from, to, two := strings.Cut(word, "-")
	if first, err = netip.ParseAddr(from); err != nil || first.Zone() != "" {
		return no()
	}
	if !two {
		return first, first, nil
	}
	if last, err = netip.ParseAddr(to); err != nil && first.Is4() { // the last byte alone
		last, err = netip.ParseAddr(from[:strings.LastIndexByte(from, '.')+1] + to)
	}
	if err != nil || last.Zone() != "" || last.Is4() != first.Is4() {
		return no()
	}
	if last.Less(first) {
		return first, last, fmt.Errorf("%s ends before it begins", word)
	}
	return first, last, nil
}
