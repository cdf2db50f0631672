package main

import (
	"context"
	"errors"

	"kettlehole/internal/client"
)

func open(ctx context.Context, station client.Station, file string) error {
	return errors.New("no interface yet")
}
