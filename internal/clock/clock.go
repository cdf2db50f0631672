// Package clock is the real time, for those who take a clock.
package clock

import (
	"context"
	"time"
)

// Real is the machine's clock.
type Real struct{}

// Now is time.Now.
func (Real) Now() time.Time { return time.Now() }

// Sleep waits for d, or until ctx ends, whose error it then gives.
func (Real) Sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
