package within

import (
	"errors"
	"slices"
	"strings"
	"sync"

	"kettlehole/internal/fabric"
	"kettlehole/internal/reach"
	"kettlehole/internal/reach/names"
	"kettlehole/internal/reach/outward"
)

// Within does it. Its methods are safe for concurrent use.
type Within struct {
	mu       sync.Mutex
	ways     outward.Ways
	resolver *names.Resolver
	server   *names.Server
	taker    *outward.Taker
	fronts   map[string]*front
}

type front struct {
	*reach.Front
	config reach.FrontConfig
}

// New begins with nothing. out is the path of the socket where the outside is
// asked for.
func New(out string) *Within {
	ways := outward.Ways{Path: out}
	resolver := names.NewResolver(ways.Ask)
	return &Within{ways: ways, resolver: resolver, server: names.NewServer(resolver), fronts: map[string]*front{}}
}

// Do makes what is done as the config says. What stays is not disturbed. The
// networks must be there.
func (w *Within) Do(c Config) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.resolver.Know(c.Names)
	return errors.Join(w.server.Listen(c.Answer), w.spread(c.Fronts), w.leave(c))
}

// leave opens the way out where a network has one, and closes it where none
// has.
func (w *Within) leave(c Config) error {
	wanted := false
	for _, n := range c.Networks {
		wanted = wanted || n.Egress
	}
	if !wanted && w.taker == nil {
		return nil
	}
	if w.taker == nil {
		taker, err := outward.Take(w.ways.Dial)
		if err != nil {
			return err
		}
		w.taker = taker
	}
	if err := fabric.Egress(c.Networks, c.Local, w.taker.Ports); err != nil || wanted {
		return err
	}
	err := w.taker.Close()
	w.taker = nil
	return err
}

// spread opens, changes and closes fronts.
func (w *Within) spread(configs []reach.FrontConfig) error {
	wanted := map[string]reach.FrontConfig{}
	for _, c := range configs {
		wanted[c.Name] = c
	}
	for name, open := range w.fronts {
		if !open.config.Same(wanted[name]) {
			_ = open.Close()
			delete(w.fronts, name)
		}
	}
	var all []error
	for _, c := range configs {
		if open := w.fronts[c.Name]; open != nil {
			open.Become(c)
			continue
		}
		opened, err := reach.OpenFront(c)
		if err != nil {
			all = append(all, err)
			continue
		}
		w.fronts[c.Name] = &front{opened, c}
	}
	return errors.Join(all...)
}

// Fronts tells how the fronts are, by name.
func (w *Within) Fronts() []reach.FrontState {
	w.mu.Lock()
	defer w.mu.Unlock()
	var all []reach.FrontState
	for _, f := range w.fronts {
		all = append(all, f.State())
	}
	slices.SortFunc(all, func(a, b reach.FrontState) int { return strings.Compare(a.Name, b.Name) })
	return all
}
