package supply

import (
	"net/http"
	"strings"
	"testing"
)

// Another user of the machine who finds the port gets nothing: not even what is there.
func TestTheShopIsForWhoWasToldOfIt(t *testing.T) {
	s, err := Open(t.TempDir(), []Want{{Kind: "npm", Name: "weir-counts", Version: "1.0.0", Path: "weir-counts/-/weir-counts-1.0.0.tgz"}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	said := func(address string) int {
		t.Helper()
		resp, err := http.Get(address)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	host := strings.TrimSuffix(s.base, "/"+s.secret)
	for _, path := range []string{"/", "/npm/weir-counts", "/go/", "/npm/weir-counts/-/weir-counts-1.0.0.tgz"} {
		if code := said(host + path); code != http.StatusNotFound {
			t.Errorf("%s: %d", path, code)
		}
	}
	for _, line := range s.Variables() {
		if strings.Contains(line, "http") && !strings.Contains(line, s.secret) {
			t.Errorf("%s does not lead to the shop", line)
		}
	}
}
