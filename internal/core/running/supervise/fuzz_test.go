package supervise

import (
	"context"
	"io"
	"log/slog"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"app.example/trammel/internal/core/checkout/bay"
	"app.example/trammel/internal/core/running/gateway"
)

// FuzzControl sends requests to the control socket's handler. What they ask to start is
// read and judged, and not started: the fuzzer is no friend of this machine. Logs are
// streams without an end.
func FuzzControl(f *testing.F) {
	f.Add("GET", "/status?full", "")
	f.Add("POST", "/stop", `["lane"]`)
	f.Add("POST", "/page/act", `{"act":"again","name":"lane"}`)
	f.Add("GET", "/page/state", "")
	f.Add("POST", "/start", `{"name":"lane.1","service":"lane","argv":["true"],"ports":{"http":0}}`)
	f.Fuzz(func(t *testing.T, method, target, body string) {
		if spec, err := readSpec(strings.NewReader(body)); err == nil {
			if filepath.Base(spec.Name) != spec.Name || len(spec.Argv) == 0 {
				t.Errorf("%+v is taken for a service", spec)
			}
		}
		path, _, _ := strings.Cut(target, "?")
		if !strings.HasPrefix(path, "/") || strings.ContainsAny(method+target, " \r\n\t\x00#%") || method == "" || strings.HasSuffix(filepath.Clean(path), "start") || strings.HasSuffix(filepath.Clean(path), "claim") || strings.HasSuffix(filepath.Clean(path), "logs") {
			return
		}
		for _, c := range method {
			if c < 'A' || c > 'Z' {
				return
			}
		}
		for _, c := range target {
			if c < '!' || c > '~' {
				return
			}
		}
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		dir := t.TempDir()
		s := &supervisor{
			bay: bay.Bay{Dir: dir, State: dir, Records: dir, Project: "heronweir", Name: bay.Main}, log: slog.New(slog.NewTextHandler(io.Discard, nil)), ctx: ctx, cancel: cancel,
			units: map[string]*unit{}, claims: map[string]*bay.Claim{}, said: map[string]string{}, wanted: map[string]bool{}, grounds: map[string]*ground{"": {}},
		}
		page := gateway.NewPage(ctx, s.bay, s.page(), s.log)
		r := httptest.NewRequest(method, target, strings.NewReader(body)).WithContext(ctx)
		w := httptest.NewRecorder()
		s.routes(page).ServeHTTP(w, r)
		if w.Code >= 500 && w.Code != 503 {
			t.Errorf("%s %s: %d %s", method, target, w.Code, w.Body)
		}
		if strings.HasSuffix(path, "/act") && w.Code < 300 {
			t.Errorf("%s %s was done without the page's token: %s", method, target, w.Body)
		}
	})
}
