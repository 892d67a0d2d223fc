package main

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"text/tabwriter"
)

// variable is an environment variable that configures Nivot.
type variable struct{ name, standard, what string }

var variables = []variable{
	{"NIVOT_ADDR", "127.0.0.1:8420", "address the application listens on"},
	{"NIVOT_PUBLIC_URL", "http:// and NIVOT_ADDR",
		"address people reach it by; with https:// cookies are sent over TLS only"},
	{"NIVOT_TRUSTED_PROXIES", "none",
		"proxies whose X-Forwarded-For is believed, as addresses or networks (10.0.0.0/8), with commas between"},
	{"NIVOT_METRICS_ADDR", "none", "address for Prometheus to collect /metrics at, apart from the application's"},
	{"NIVOT_DSN", "", "serve, migrate: the database, as user:password@tcp(host:port)/name"},
	{"NIVOT_KEY_FILE", "", "serve: file with the key that seals mail passwords; made if missing"},
	{"NIVOT_CONNECTIONS", "8", "connections to mail servers at once"},
	{"NIVOT_PRACTICE_SMTP", "127.0.0.1:8425", "demo: address of the practice mail server; serve: empty, for none"},
	{"NIVOT_ZONE", "UTC; in the demo Europe/London", "serve: the zone Today and the log are shown in"},
	{"NIVOT_UPLOADS", "within the temporary folder",
		"folder of what is being uploaded, of Nivot's own user; uploads left there go at the start"},
	{"NIVOT_SOURCES", "none; in the demo NIVOT_VAR/shared-drive", "folder in which sheets may follow files"},
	{"NIVOT_VAR", "./var", "demo: folder of the database and the key"},
	{"NIVOT_DB_PORT", "8426", "demo: loopback port of the private database; never 3306"},
	{"NIVOT_LOG", "warn; with serve info",
		"what is logged: warn, what went wrong; info, every request too; debug, every decision about a row too"},
}

// env reads a variable, or its standard value.
func env(name string) string {
	if v, ok := os.LookupEnv(name); ok {
		return v
	}
	for _, v := range variables {
		if v.name == name && v.standard != "none" {
			return v.standard
		}
	}
	return ""
}

func envInt(name string) (int, error) {
	n, err := strconv.Atoi(env(name))
	if err != nil || n < 1 || n > 65535 {
		return 0, fmt.Errorf("%s is %q; a number from 1 to 65535 is wanted", name, env(name))
	}
	return n, nil
}

func help(w io.Writer) {
	fmt.Fprint(w, `Nivot writes the reminder emails that a shared sheet's dates ask for, each once.

Usage:

`)
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	for _, c := range commands() {
		fmt.Fprintf(t, "  nivot %s %s\t%s\n", c.name, c.args, c.what)
	}
	fmt.Fprintf(t, "  nivot help\tthis text; nivot COMMAND -h lists the command's flags\n")
	t.Flush()
	fmt.Fprint(w, "\nEnvironment:\n\n")
	for _, v := range variables {
		std := v.standard
		if std == "" {
			std = "none"
		}
		fmt.Fprintf(t, "  %s\t%s\t(%s)\n", v.name, v.what, std)
	}
	t.Flush()
}
