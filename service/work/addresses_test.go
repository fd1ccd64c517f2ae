package work

import (
	"net/netip"
	"testing"
)

// One address of every entry of IANA's special-purpose registries, and their neighbours outside.
func TestOnlyPlacesInThePublicInternetAreFetchedFrom(t *testing.T) {
	for address, want := range map[string]bool{
		"0.0.0.0": false, "0.1.2.3": false, "10.0.0.1": false, "100.64.0.1": false, "100.127.255.255": false,
		"100.63.255.255": true, "100.128.0.0": true,
		"127.0.0.1": false, "127.255.0.9": false, "169.254.169.254": false, "172.16.0.1": false,
		"172.31.255.255": false, "172.32.0.1": true,
		"192.0.0.1": false, "192.0.0.255": false, "192.0.1.0": true, "192.0.2.7": false, "192.31.196.1": false,
		"192.52.193.1": false, "192.88.99.1": false,
		"192.168.3.4": false, "192.175.48.1": false, "198.18.0.1": false, "198.19.255.255": false, "198.20.0.0": true,
		"198.51.100.1": false, "203.0.113.1": false,
		"224.0.0.1": false, "240.0.0.1": false, "255.255.255.255": false, "1.1.1.1": true, "93.184.216.34": true,
		"::": false, "::1": false, "::ffff:10.0.0.1": false, "::ffff:127.0.0.1": false, "::ffff:1.1.1.1": true,
		"::7f00:1": false, "64:ff9b::7f00:1": false, "64:ff9b:1::1": false,
		"100::1": false, "100:0:0:1::1": false, "2001::1": false, "2001:db8::1": false, "2001:1ff::1": false,
		"2001:200::1": true, "2002:7f00:1::": false,
		"2620:4f:8000::1": false, "3fff::1": false, "5f00::1": false, "fc00::1": false, "fdff::1": false,
		"fe80::1": false, "fe80::1%eth0": false, "fec0::1": false, "ff02::1": false,
		"2606:4700::1111": true,
	} {
		if got := public(netip.MustParseAddr(address)); got != want {
			t.Errorf("%s: public is %v, want %v", address, got, want)
		}
	}
	if public(netip.Addr{}) {
		t.Error("no address at all is public")
	}
}
