package within

import (
	"os"
	"reflect"
	"testing"
)

// handed gives bytes as a process is told them.
func handed(t testing.TB, raw []byte) *os.File {
	t.Helper()
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		_, _ = w.Write(raw)
		w.Close()
	}()
	return r
}

func TestWhatIsToldComesAsItWas(t *testing.T) {
	for _, o := range []Order{
		{},
		{View: View{Root: "/store/root, of: 3", Closed: true, Read: []string{"/a b", ""}, Write: []string{"/heron\nweir"}, Hide: []string{"1:x,"}, Work: "/w", Self: "/s", Frame: "/f"}, Dir: "/d", Path: "/p", Terminal: true},
		{View: View{Hide: []string{"/h"}}, Making: true},
	} {
		got, err := Unpack(string(o.Pack()))
		for _, list := range []*[]string{&got.View.Read, &got.View.Write, &got.View.Hide} {
			if len(*list) == 0 {
				*list = nil
			}
		}
		if err != nil || !reflect.DeepEqual(got, o) {
			t.Errorf("%+v came as %+v: %v", o, got, err)
		}
	}
	for _, s := range []Spec{{Path: "/bin/sh", Argv: []string{"sh", "-c", "echo 1:2,\x00"}, Mount: true}, {Argv: []string{""}, Adopt: true}} {
		got, err := specFrom(handed(t, s.Pack()))
		if err != nil || !reflect.DeepEqual(got, s) {
			t.Errorf("%+v came as %+v: %v", s, got, err)
		}
	}
}

// What was cut or is nothing of the kind is an error, and nothing is started by it.
func FuzzWhatIsTold(f *testing.F) {
	f.Add(Order{View: View{Read: []string{"/a"}}}.Pack())
	f.Add(Spec{Path: "p", Argv: []string{"a"}}.Pack())
	f.Add([]byte("99999999999999999999:x,"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if o, err := Unpack(string(raw)); err == nil {
			if again, err := Unpack(string(o.Pack())); err != nil || !reflect.DeepEqual(again, o) {
				t.Errorf("%q: %+v, and packed again %+v %v", raw, o, again, err)
			}
		}
		_, _ = specFrom(handed(t, raw))
		if whole := (Spec{Path: "p", Argv: []string{string(raw)}}).Pack(); len(raw) > 0 {
			if _, err := specFrom(handed(t, whole[:len(whole)-1])); err == nil {
				t.Error("a part of it was taken for all")
			}
		}
	})
}
