package run

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"kettlehole/internal/agent"
	"kettlehole/internal/labfile"
)

// answerWithin is how long one HTTP request of a wait may take.
const answerWithin = 5 * time.Second

// look looks once at the condition of a wait.
func look(ctx context.Context, client agent.Client, want labfile.Wait) (agent.ProbeResult, error) {
	var probe agent.Probe
	switch want.Kind {
	case labfile.WaitPort:
		probe.Port = want.Port
	case labfile.WaitFile:
		probe.File = want.Text
	case labfile.WaitRun:
		probe.Run = want.Text
	case labfile.WaitService:
		probe.Service = want.Text
	case labfile.WaitName:
		probe.Name = want.Text
	case labfile.WaitHTTP:
		return ask(ctx, client, want.Text)
	}
	return client.Probe(ctx, probe)
}

// ask sends an HTTP request over a connection that the node opens, so that
// names and addresses are the lab's. Certificates are not verified: those of a
// throwaway lab are its own.
func ask(ctx context.Context, client agent.Client, address string) (agent.ProbeResult, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	transport := &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			return client.DialAddress(ctx, address)
		},
		TLSClientConfig:   &tls.Config{InsecureSkipVerify: true},
		DisableKeepAlives: true,
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return agent.ProbeResult{Seen: err.Error()}, nil
	}
	asker := http.Client{Transport: transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := asker.Do(request)
	if err != nil {
		var refused *agent.Refused
		var wrapped *url.Error
		switch {
		case errors.As(err, &refused):
			return agent.ProbeResult{Seen: fmt.Sprintf("%s: %s", address, refused.Reason)}, nil
		case errors.As(err, &wrapped) && wrapped.Timeout():
			return agent.ProbeResult{Seen: fmt.Sprintf("%s: no answer within %v", address, answerWithin)}, nil
		}
		// Whether the node itself still answers decides what this was.
		if _, lost := client.Do(ctx, agent.Request{Op: agent.OpHello}); lost != nil {
			return agent.ProbeResult{}, lost
		}
		return agent.ProbeResult{Seen: err.Error()}, nil
	}
	defer response.Body.Close()
	if response.StatusCode < 200 || response.StatusCode > 399 {
		return agent.ProbeResult{Seen: fmt.Sprintf("%s: status %d", address, response.StatusCode)}, nil
	}
	return agent.ProbeResult{Held: true}, nil
}
