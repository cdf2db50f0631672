package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"time"
)

// result is what a member answered.
type result struct {
	status int
	body   []byte
	err    error
}

// failure is the answer as an error, nil where it was good.
func (r result) failure() error {
	switch {
	case r.err != nil:
		return r.err
	case r.status >= 300:
		return errors.New(strings.TrimSpace(string(r.body)))
	}
	return nil
}

func answerRaw(w http.ResponseWriter, r result) {
	if r.err != nil {
		answer(w, nil, r.err)
		return
	}
	w.WriteHeader(r.status)
	_, _ = w.Write(r.body)
}

var remote = &http.Client{Timeout: 4 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 4, DialContext: (&net.Dialer{Timeout: 700 * time.Millisecond}).DialContext}}

// call asks the member at address.
func call(ctx context.Context, client *http.Client, method, address, path string, body []byte, passed bool) result {
	if client == nil {
		client = remote
	}
	request, err := http.NewRequestWithContext(ctx, method, "http://"+address+path, bytes.NewReader(body))
	if err != nil {
		return result{err: err}
	}
	if passed {
		request.Header.Set("Cairn-Passed", "yes")
	}
	response, err := client.Do(request)
	if err != nil {
		return result{err: fmt.Errorf("asking %s: %w", address, errors.Unwrap(err))}
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, 4<<20))
	return result{response.StatusCode, text, err}
}

// callAny asks one server after the other until one answers well.
func callAny(ctx context.Context, servers []string, method, path string, body []byte) (string, result) {
	last, from := result{err: errors.New("no server is named")}, ""
	for _, server := range servers {
		from, last = server, call(ctx, nil, method, server, path, body, false)
		if last.failure() == nil {
			break
		}
	}
	return from, last
}

// local asks the member on this machine, which may just be starting.
func local(method, path string, body any) result {
	text, err := json.Marshal(body)
	if err != nil {
		return result{err: err}
	}
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", localSocket)
	}}}
	deadline := time.Now().Add(10 * time.Second)
	for {
		r := call(context.Background(), client, method, "this-machine", path, text, false)
		var unreachable *net.OpError
		if r.err == nil || !errors.As(r.err, &unreachable) || time.Now().After(deadline) {
			return r
		}
		time.Sleep(10 * time.Millisecond)
	}
}

func found(args []string) error {
	var show bool
	if _, err := flags(args, func(f *flag.FlagSet) { f.BoolVar(&show, "print-ticket", false, "print the admission ticket") }); err != nil {
		return err
	}
	r := local(http.MethodPost, "/found", nil)
	if err := r.failure(); err != nil {
		return err
	}
	var ticket string
	if err := json.Unmarshal(r.body, &ticket); err != nil {
		return err
	}
	if show {
		fmt.Println(ticket)
	}
	return nil
}

func join(args []string) error {
	var want admission
	seeds, err := flags(args, func(f *flag.FlagSet) { f.StringVar(&want.Ticket, "ticket", "", "admission ticket") })
	if err != nil {
		return err
	}
	if want.Seeds = seeds; len(seeds) == 0 || want.Ticket == "" {
		return fmt.Errorf("join needs --ticket and the address of a member: %w", errUsage)
	}
	if err := local(http.MethodPost, "/join", want).failure(); err != nil {
		return err
	}
	fmt.Println("admitted by", strings.Join(seeds, " or "))
	return nil
}

func member(args []string) error {
	var ready bool
	if _, err := flags(args, func(f *flag.FlagSet) { f.BoolVar(&ready, "ready", false, "tell whether it is level with its ledger") }); err != nil {
		return err
	}
	if !ready {
		return fmt.Errorf("member needs --ready: %w", errUsage)
	}
	return local(http.MethodGet, "/ready", nil).failure()
}

func members(args []string) error {
	var asJSON, count bool
	_, err := flags(args, func(f *flag.FlagSet) {
		f.BoolVar(&asJSON, "json", false, "print JSON")
		f.BoolVar(&count, "count-ready", false, "print how many are ready")
	})
	if err != nil {
		return err
	}
	r := local(http.MethodGet, "/members", nil)
	if err := r.failure(); err != nil {
		return err
	}
	var all []memberInfo
	if err := json.Unmarshal(r.body, &all); err != nil {
		return err
	}
	ready := 0
	for _, m := range all {
		if m.Ready {
			ready++
		}
	}
	switch {
	case asJSON:
		_, err = os.Stdout.Write(r.body)
		return err
	case count:
		fmt.Println(ready)
	default:
		for _, m := range all {
			fmt.Printf("%-14s %-20s %-9s %s\n", m.Name, m.API, word(m.Ready, "ready", "not ready"), word(m.Leader, "leads", ""))
		}
	}
	return nil
}

func word(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

func leader(args []string) error {
	r := local(http.MethodGet, "/members", nil)
	if err := r.failure(); err != nil {
		return err
	}
	var all []memberInfo
	if err := json.Unmarshal(r.body, &all); err != nil {
		return err
	}
	for _, m := range all {
		if m.Leader {
			fmt.Println(m.Name)
			return nil
		}
	}
	return errNoLeader
}

func put(args []string) error {
	if len(args) != 2 {
		return fmt.Errorf("put needs a key and a value: %w", errUsage)
	}
	return local(http.MethodPost, "/put", pair{args[0], args[1]}).failure()
}

func get(args []string) error {
	if len(args) != 1 {
		return fmt.Errorf("get needs a key: %w", errUsage)
	}
	r := local(http.MethodGet, "/value?key="+args[0], nil)
	if err := r.failure(); err != nil {
		return err
	}
	var value string
	if err := json.Unmarshal(r.body, &value); err != nil {
		return err
	}
	fmt.Println(value)
	return nil
}
