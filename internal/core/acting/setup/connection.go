package setup

import (
	"net/url"
	"strings"

	"app.example/trammel/internal/core/base/shell"
	"app.example/trammel/internal/core/running/environ"
	"app.example/trammel/internal/core/written/card"
	"app.example/trammel/internal/core/written/declare"
)

// Connection is how a client of this machine gets to a service. What its card does not publish is "".
type Connection struct {
	Host, Port, Database, User string
	Password                   string   // the file that holds it, which only this user may read
	URL                        string   // without the password
	Console                    string   // the routine that is a client
	Lines                      []string // commands of the usual clients, to paste; they ask for the password
}

// Console is the routine that is a client of a service, "" where its card has none.
func Console(d *declare.Declaration, x declare.Service) string {
	if x.Card["console"] == "" {
		return ""
	}
	if r, ok := d.Routine(x.Name + "-console"); ok {
		return r.Name
	}
	return ""
}

// Connection looks it up: numbers are those of this machine, as the bay has them now.
func (s *Sight) Connection(x declare.Service) (c Connection) {
	look := s.Plan.Lookup("", 0)
	get := func(name string) string {
		value, err := look("service." + x.Name + "." + name)
		if err != nil || environ.Marked(value) { // a secret is not shown
			return ""
		}
		return value
	}
	c = Connection{Host: get("host"), Port: get("port." + x.Ports[0].Name), Database: get("database"), User: get("user"), Console: Console(s.State.Declaration, x)}
	for name, value := range card.Service(x.Card).Group("setting") {
		if value == card.Random && (c.Password == "" || name == "password") {
			c.Password = environ.SettingFile(s.State.Bay, x.Name, name)
		}
	}
	scheme, _, _ := strings.Cut(x.Card["publish.url"], "://")
	if scheme == "" || c.Host == "" {
		return c
	}
	at := url.URL{Scheme: scheme, Host: c.Host + ":" + c.Port, Path: c.Database}
	if c.User != "" {
		at.User = url.User(c.User)
	}
	c.URL = at.String()
	switch scheme {
	case "postgres":
		c.Lines = []string{shell.Words("psql", "-h", c.Host, "-p", c.Port, "-U", c.User, c.Database), "jdbc:postgresql://" + at.Host + "/" + url.PathEscape(c.Database) + "?user=" + url.QueryEscape(c.User)}
	case "mysql":
		c.Lines = []string{shell.Words("mariadb", "--skip-ssl", "-h", c.Host, "-P", c.Port, "-u", c.User, "-p", c.Database), "jdbc:mariadb://" + at.Host + "/" + url.PathEscape(c.Database) + "?user=" + url.QueryEscape(c.User)}
	case "redis":
		c.Lines = []string{shell.Words("redis-cli", "-h", c.Host, "-p", c.Port)}
	}
	return c
}
