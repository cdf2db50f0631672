package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"html/template"
	"log"
	"net/http"
	"slices"
	"sync/atomic"
	"time"
)

var page = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Avalanche desk</title><meta http-equiv="refresh" content="2">
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:46rem;margin:3rem auto;padding:0 1rem;color:#22303a;background:#f4f6f7}
h1{font-size:1.4rem}td,th{text-align:left;padding:.1rem 1.5rem .1rem 0}th{font-weight:normal;color:#6b7a84}.bad{color:#a8452f}</style></head>
<body><h1>Avalanche desk: the slope ledger</h1>
<p>{{.Count}} readings so far, told by {{.From}}.{{if not .Leader}} <b class="bad">No member leads: nothing new can be written.</b>{{end}}</p>
<table><tr><th>member<th>state<th></tr>{{range .Members}}<tr><td>{{.Name}}<td>{{if .Ready}}ready{{else}}<span class="bad">not ready</span>{{end}}<td>{{if .Leader}}leads{{end}}</tr>{{end}}</table>
<h1>Latest readings</h1>
<table><tr><th>entry<th>time (UTC)<th>station<th>slope</tr>{{range .Readings}}<tr><td>{{.Index}}<td>{{.At.Format "15:04:05.0"}}<td>{{.Station}}<td>{{printf "%.1f" .Slope}}°</tr>{{end}}</table>
</body></html>
`))

// shownReadings is how many readings the page has.
const shownReadings = 12

// door serves one page, asking one member after the other.
func door(args []string) error {
	var listen, servers string
	_, err := flags(args, func(f *flag.FlagSet) {
		f.StringVar(&listen, "listen", ":80", "address and port of the page")
		f.StringVar(&servers, "servers", "", "members to ask")
	})
	if err != nil {
		return err
	}
	all := list(servers)
	if len(all) == 0 {
		return fmt.Errorf("door needs --servers: %w", errUsage)
	}
	log.SetFlags(0)
	log.Printf("the door is open on %s", listen)
	var turn atomic.Int64
	return http.ListenAndServe(listen, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		first := int(turn.Add(1)) % len(all)
		if err := show(r.Context(), w, append(slices.Clone(all[first:]), all[:first]...)); err != nil {
			http.Error(w, "the ledger cannot be read: "+err.Error(), http.StatusBadGateway)
			log.Printf("%s page failed: %v", time.Now().Format(stampLayout), err)
		}
	}))
}

func show(ctx context.Context, w http.ResponseWriter, servers []string) error {
	var view struct {
		Readings []Reading
		Count    uint64
		Members  []memberInfo
		Leader   bool
		From     string
	}
	from, r := callAny(ctx, servers, http.MethodGet, "/readings", nil)
	if err := r.failure(); err != nil {
		return err
	}
	if err := json.Unmarshal(r.body, &view); err != nil {
		return err
	}
	r = call(ctx, nil, http.MethodGet, from, "/members", nil, false)
	if err := r.failure(); err != nil {
		return err
	}
	if err := json.Unmarshal(r.body, &view.Members); err != nil {
		return err
	}
	view.From = from
	view.Leader = slices.ContainsFunc(view.Members, func(m memberInfo) bool { return m.Leader })
	slices.Reverse(view.Readings)
	view.Readings = view.Readings[:min(len(view.Readings), shownReadings)]
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	return page.Execute(w, view)
}
