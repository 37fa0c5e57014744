//go:build !linux

package gateway

import "net/http"

// sameUser cannot tell here whose a connection is.
func sameUser(*http.Request) (bool, error) { return true, nil }
