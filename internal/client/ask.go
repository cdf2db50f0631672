package client

import (
	"context"
	"errors"
	"strings"
	"sync"

	"kettlehole/internal/agent"
	"kettlehole/internal/answers"
)

// longestAnswer is how much of a stream is kept of each node, in bytes.
const longestAnswer = 1 << 20

// Ask runs a command without input on many nodes at once, and gives what each
// said, in their order. answered, which may be nil, is told as each has; it is
// called by one at a time.
func (l *Lab) Ask(ctx context.Context, nodes []string, exec agent.Exec, answered func(answers.Answer)) []answers.Answer {
	all := make([]answers.Answer, len(nodes))
	var mu sync.Mutex
	var busy sync.WaitGroup
	for i, node := range nodes {
		busy.Go(func() {
			all[i] = l.askOne(ctx, node, exec)
			mu.Lock()
			defer mu.Unlock()
			if answered != nil {
				answered(all[i])
			}
		})
	}
	busy.Wait()
	return all
}

func (l *Lab) askOne(ctx context.Context, node string, exec agent.Exec) answers.Answer {
	failed := func(err error) answers.Answer {
		words := err.Error()
		if refused, is := errors.AsType[*agent.Refused](err); is {
			words = refused.Reason
		} else if problem, is := errors.AsType[*Problem](err); is {
			words = problem.Error()
		}
		return answers.Answer{Node: node, Exit: -1, Failed: words}
	}
	session, err := l.Agent(node).Exec(ctx, exec)
	if err != nil {
		return failed(err)
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	_ = session.CloseInput() // a program that has ended already needs none
	out, errs := agent.NewLimited(longestAnswer), agent.NewLimited(longestAnswer)
	exit, err := session.Wait(out, errs)
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	a := answers.Answer{Node: node, Exit: exit, Out: strings.ToValidUTF8(out.String(), "\uFFFD"), Err: strings.ToValidUTF8(errs.String(), "\uFFFD")}
	if err != nil {
		a.Exit, a.Failed = -1, failed(err).Failed
	}
	return a
}
