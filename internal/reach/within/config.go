// Package within is what a lab does itself on its networks: it answers
// questions for names, spreads connections over groups, and takes what may
// leave. It works in the lab's namespaces, and lives with the lab: a keeper
// that ends takes the way out along, but no name and no front.
package within

import (
	"net/netip"

	"kettlehole/internal/fabric"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach"
	"kettlehole/internal/reach/names"
)

// Config says what there is to do.
type Config struct {
	Networks []fabric.Network    `json:"networks"`
	Local    []netip.Prefix      `json:"local"` // the ranges of all networks
	Answer   []netip.Addr        `json:"answer"`
	Names    names.Table         `json:"names"`
	Fronts   []reach.FrontConfig `json:"fronts,omitempty"`
}

// Of gives what there is to do for a plan. away tells which nodes do not live.
func Of(p *plan.Plan, away func(node string) bool) Config {
	c := Config{Networks: Networks(p), Names: names.Of(p, away)}
	for _, n := range p.Networks {
		c.Local = append(c.Local, n.Ranges()...)
		for _, own := range []netip.Prefix{n.Own, n.Own6} {
			if own.IsValid() {
				c.Answer = append(c.Answer, own.Addr())
			}
		}
	}
	for _, f := range p.Fronts {
		one := reach.FrontConfig{Name: f.Name, Listen: []netip.AddrPort{netip.AddrPortFrom(f.Address.Addr(), f.Port)}, HealthPort: f.HealthPort, HealthPath: f.HealthPath}
		if f.Address6.IsValid() {
			one.Listen = append(one.Listen, netip.AddrPortFrom(f.Address6.Addr(), f.Port))
		}
		for _, m := range f.Members {
			one.Targets = append(one.Targets, reach.Target(m))
		}
		c.Fronts = append(c.Fronts, one)
	}
	return c
}

// Networks gives the networks of a plan with the lab's own addresses.
func Networks(p *plan.Plan) []fabric.Network {
	var all []fabric.Network
	for _, n := range p.Networks {
		one := fabric.Network{Name: n.Name, Egress: n.Egress}
		own := []netip.Prefix{n.Own, n.Own6}
		for _, f := range p.Fronts {
			if f.Network == n.Name {
				own = append(own, f.Address, f.Address6)
			}
		}
		for _, address := range own {
			if address.IsValid() {
				one.Addresses = append(one.Addresses, address)
			}
		}
		all = append(all, one)
	}
	return all
}
