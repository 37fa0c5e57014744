package source

import (
	"encoding/json"
	"testing"
)

// One release of an odd form does not keep the others away, and says what is odd when it is
// the one that is wanted.
func TestOddReleasesOfAPackage(t *testing.T) {
	var d npmDocument
	err := json.Unmarshal([]byte(`{"name":"mime","versions":{
		"1.0.0":{"dependencies":[],"dist":{"tarball":"t"}},
		"1.1.0":{"dependencies":["ladder"]},
		"1.2.0":7,
		"2.0.0":{"dependencies":{"ladder":"^1.0.0"},"optionalDependencies":[],"peerDependencies":null}
	}}`), &d)
	if err != nil || len(d.Versions) != 2 || len(d.odd) != 2 || d.odd["1.1.0"] == nil || d.odd["1.2.0"] == nil {
		t.Errorf("%+v, %v", d, err)
	}
	if d.Versions["2.0.0"].Dependencies["ladder"] != "^1.0.0" || d.Versions["1.0.0"].Dist.Tarball != "t" {
		t.Errorf("%+v", d.Versions)
	}
	if json.Unmarshal([]byte(`{"name":[]}`), &d) == nil {
		t.Error("what is no document at all is taken")
	}
}
