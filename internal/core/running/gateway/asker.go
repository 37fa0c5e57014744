package gateway

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"os"
	"sync"

	"app.example/trammel/internal/core/kernel/peer"
)

// Who asks decides what is answered (package peer):
//
//	a login of the user          services, pages, lists of names
//	a sealed view                nothing, or services where its declaration says so
//	anything else                services, which it could reach by their ports anyway
//
// It is found out once for a connection, when something is asked.

type askerKey struct{}

// met remembers a connection, for requests on it.
func (t *router) met(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(ctx, askerKey{}, sync.OnceValue(func() peer.Peer {
		there, err := addressOf(c.RemoteAddr())
		if err != nil {
			return peer.Peer{User: -1}
		}
		here, err := addressOf(c.LocalAddr())
		if err != nil {
			return peer.Peer{User: -1}
		}
		from, err := t.who.OfConnection(there, here)
		if err != nil {
			t.log.Warn("it cannot be told who asks", "error", err)
		}
		return from
	}))
}

func addressOf(a net.Addr) (out peer.Address, err error) {
	at, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return out, err
	}
	ip := at.Addr().Unmap()
	copy(out.IP[:], ip.AsSlice())
	out.Six, out.Port = ip.Is6(), at.Port()
	return out, nil
}

// asker is who sent a request; of one that came by no connection nothing is known.
func asker(r *http.Request) peer.Peer {
	if find, ok := r.Context().Value(askerKey{}).(func() peer.Peer); ok {
		return find()
	}
	return peer.Peer{User: -1}
}

// ownLogin tells whether a request is from a login of this user, or of root.
func ownLogin(r *http.Request) (from peer.Peer, ours bool) {
	from = asker(r)
	return from, from.Login && (from.User == os.Getuid() || from.User == 0)
}

// admit tells whether a page may be shown to who asks; otherwise it is answered.
func (t *router) admit(w http.ResponseWriter, r *http.Request) bool {
	from, ours := ownLogin(r)
	if ours {
		return true
	}
	t.log.Warn("a page was asked for by another user or from a container", "user", from.User, "pid", from.Pid)
	why := "This page is another user's."
	if from.User == os.Getuid() && from.Pid != 0 {
		why = "This page is for programs of your own login. The one that asks runs in a container, a sealed root, a step or a service."
	} else if from.User == os.Getuid() {
		why = "This page is for programs of your own login. It could not be told which program asks."
	}
	http.Error(w, why, http.StatusForbidden)
	return false
}
