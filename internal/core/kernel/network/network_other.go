//go:build !linux

package network

func (n *Network) live(ready chan<- error) { ready <- ErrNone }
