package medina

import (
	"encoding/binary"
	"fmt"
	"net/netip"

	"kasbah/core/value"
)

// What each type decides for itself and refuses, beyond what its schema says.

// bounds are the first and last address of an IPv4 range, as numbers.
func bounds(p netip.Prefix) (lo, hi int64) {
	a := p.Addr().As4()
	lo = int64(binary.BigEndian.Uint32(a[:]))
	return lo, lo + 1<<(32-p.Bits()) - 1
}

func address(n int64) string {
	var a [4]byte
	binary.BigEndian.PutUint32(a[:], uint32(n))
	return netip.AddrFrom4(a).String()
}

func ipv4(is value.Map, smallest int) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(is["range"].(string))
	switch {
	case err != nil:
		return p, refuse("range", "%v", err)
	case !p.Addr().Is4():
		return p, refuse("range", "ranges are IPv4 in Medina, and %s is not", p)
	case p.Bits() < 8 || p.Bits() > smallest:
		return p, refuse("range", "the prefix of %s must lie between 8 and %d", p, smallest)
	}
	return p, nil
}

func decideNetwork(t *tx, id string, was, is value.Map) error {
	p, err := ipv4(is, 28)
	if err != nil {
		return err
	}
	lo, _ := bounds(p)
	is["gateway"] = address(lo + 1)
	return nil
}

func decideSubnet(t *tx, id string, was, is value.Map) error {
	p, err := ipv4(is, 29)
	if err != nil {
		return err
	}
	if was != nil {
		return nil
	}
	network, err := t.get("network", is["network"].(string))
	if err != nil {
		return err
	}
	around := netip.MustParsePrefix(network["range"].(string))
	if !around.Contains(p.Addr()) || p.Bits() < around.Bits() {
		return refuse("range", "%s is not inside %s, the range of network %s", p, around, network["name"])
	}
	lo, hi := bounds(p)
	other, otherRange, err := t.overlapping(is["network"].(string), lo, hi)
	if err != nil {
		return err
	}
	if other != "" {
		return refuse("range", "%s overlaps %s of subnet %s", p, otherRange, other)
	}
	t.parent, t.lo, t.hi = is["network"].(string), lo, hi
	is["gateway"] = address(lo + 1)
	is["free"] = hi - lo - 2 // its own address, the gateway and the broadcast are taken
	return nil
}

func decideMachine(t *tx, id string, was, is value.Map) error {
	if was != nil {
		return nil
	}
	subnet, err := t.get("subnet", is["subnet"].(string))
	if err != nil {
		return err
	}
	zone, _ := subnet["zone"].(string)
	if err := t.withinQuota("machine", zone); err != nil {
		return err
	}
	p := netip.MustParsePrefix(subnet["range"].(string))
	lo, hi := bounds(p)
	n, err := t.takeHost(is["subnet"].(string), id, hi-lo-1)
	if err != nil {
		return err
	}
	if n == 0 {
		return refuse("subnet", "subnet %s has no free address left", subnet["name"])
	}
	is["address"], is["state"] = address(lo+n), "running"
	t.zone = zone
	return t.countFree(is["subnet"].(string), -1)
}

func releaseMachine(t *tx, id string, was value.Map) error {
	subnet := was["subnet"].(string)
	if err := t.giveHost(subnet, id); err != nil {
		return err
	}
	return t.countFree(subnet, +1)
}

func decideDisk(t *tx, id string, was, is value.Map) error {
	if was != nil && is["gigabytes"].(int64) < was["gigabytes"].(int64) {
		return refuse("gigabytes", "a disk cannot shrink, and this one has %d gigabytes", was["gigabytes"])
	}
	if m, ok := is["machine"].(string); ok && (was == nil || was["machine"] != m) {
		machine, err := t.get("machine", m)
		if err != nil {
			return err
		}
		subnet, err := t.get("subnet", machine["subnet"].(string))
		if err != nil {
			return err
		}
		if subnet["zone"] != is["zone"] {
			return refuse("machine", "machine %s stands in %s, and the disk in %s", machine["name"], subnet["zone"], is["zone"])
		}
	}
	t.zone, _ = is["zone"].(string)
	if was == nil {
		return t.withinQuota("disk", t.zone)
	}
	return nil
}

func decideBucket(t *tx, id string, was, is value.Map) error {
	is["url"] = fmt.Sprintf("https://%s.buckets.medina.example/", is["name"])
	return nil
}

func decideRecord(t *tx, id string, was, is value.Map) error {
	values := is["values"].([]any)
	switch is["kind"] {
	case "CNAME":
		if len(values) != 1 {
			return refuse("values", "a CNAME has exactly one value, and this one has %d", len(values))
		}
	case "A":
		for i, v := range values {
			if a, err := netip.ParseAddr(v.(string)); err != nil || !a.Is4() {
				return refuse(fmt.Sprintf("values/%d", i), "%q is no IPv4 address", v)
			}
		}
	}
	return nil
}
