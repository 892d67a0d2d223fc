package database

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"
)

// Cluster is several servers on loopback that hold the same databases, each of which may be written
// (Galera): what several machines run, for tests of what they do when one falls silent.
type Cluster struct {
	dir       string
	addresses []string // of the nodes, for one another
	nodes     []*Server
}

// provider is where Debian's galera-4 puts what makes a server a node.
const provider = "/usr/lib/galera/libgalera_smm.so"

// ErrNoGalera says that servers cannot be made nodes of a cluster here.
var ErrNoGalera = errors.New("galera-4 is not installed")

// transfer stands for the state transfers of the server's package: a node that joins finds what it
// lacks in the log of changes of the others, and begins as a copy of the first.
const transfer = `#!/bin/sh
while [ $# -gt 0 ]; do
  case $1 in
    --role) role=$2 ;; --address) address=$2 ;; --gtid) gtid=$2 ;; --bypass) bypass=1 ;;
  esac
  shift
done
said=$(dirname "$0")/said-$address
if [ "$role" = joiner ]; then
  rm -f "$said"
  echo "ready $address"
  while [ ! -s "$said" ]; do sleep 0.1; done
  cat "$said"
else
  [ "$bypass" ] || exit 2
  echo "$gtid" > "$said"
  echo continue
  echo "done $gtid"
fi
`

// StartCluster starts n servers in folders of dir, which is new, and waits until they are one.
func StartCluster(ctx context.Context, dir string, n int) (*Cluster, error) {
	if _, err := os.Stat(provider); err != nil {
		return nil, ErrNoGalera
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := os.WriteFile(filepath.Join(dir, "wsrep_sst_log"), []byte(transfer), 0o700); err != nil {
		return nil, err
	}
	c := &Cluster{dir: dir}
	for range n {
		address, err := freeAddress()
		if err != nil {
			return nil, err
		}
		c.addresses = append(c.addresses, address)
	}
	// The first is a node alone for a moment, so that its copies know of which cluster they are.
	first := filepath.Join(dir, "node0")
	if err := os.MkdirAll(first, 0o700); err != nil {
		return nil, err
	}
	if err := initialise(ctx, first); err != nil {
		return nil, err
	}
	if err := c.start(ctx, 0, "--wsrep-new-cluster"); err != nil {
		return nil, err
	}
	c.nodes[0].Stop()
	for _, f := range []string{"galera.cache", "gvwstate.dat"} {
		_ = os.Remove(filepath.Join(first, "data", f))
	}
	for i := 1; i < n; i++ {
		if err := os.CopyFS(filepath.Join(dir, fmt.Sprint("node", i)), os.DirFS(first)); err != nil {
			return nil, err
		}
	}
	for i := range n {
		var how []string
		if i == 0 {
			how = []string{"--wsrep-new-cluster"}
		}
		if err := c.start(ctx, i, how...); err != nil {
			c.Stop()
			return nil, err
		}
	}
	return c, c.await(ctx, n)
}

func freeAddress() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

func (c *Cluster) start(ctx context.Context, i int, how ...string) error {
	receive := make([]string, 2)
	for k := range receive {
		var err error
		if receive[k], err = freeAddress(); err != nil {
			return err
		}
	}
	s := &Server{opts: Options{Dir: filepath.Join(c.dir, fmt.Sprint("node", i)), Bound: true}, done: make(chan struct{}),
		path: c.dir,
		extra: append([]string{"--binlog-format=ROW", "--innodb-autoinc-lock-mode=2", "--wsrep-on=ON",
			"--wsrep-provider=" + provider, "--wsrep-cluster-name=nivot",
			"--wsrep-cluster-address=gcomm://" + strings.Join(c.addresses, ","), "--wsrep-node-address=127.0.0.1",
			fmt.Sprint("--wsrep-node-name=node", i), "--wsrep-sst-method=log", "--wsrep-slave-threads=2",
			"--wsrep-sst-receive-address=" + receive[0],
			"--wsrep-provider-options=gmcast.listen_addr=tcp://" + c.addresses[i] + ";ist.recv_addr=" + receive[1] +
				";gcache.size=256M;evs.keepalive_period=PT0.5S;evs.inactive_check_period=PT0.3S;" +
				"evs.suspect_timeout=PT2S;evs.inactive_timeout=PT4S"}, how...)}
	if i < len(c.nodes) {
		c.nodes[i] = s
	} else {
		c.nodes = append(c.nodes, s)
	}
	return s.start(ctx)
}

// await waits until all nodes are one cluster of n that takes writes.
func (c *Cluster) await(ctx context.Context, n int) error {
	for deadline := time.Now().Add(time.Minute); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		ready := 0
		for i := range c.nodes {
			if size, state, err := c.Status(ctx, i); err == nil && size == fmt.Sprint(n) && state == "Synced" {
				ready++
			}
		}
		if ready == n {
			return nil
		}
	}
	return fmt.Errorf("%d nodes did not become one cluster within a minute", n)
}

// Status gives how many nodes a node sees, itself included, and its own state: Synced takes writes.
func (c *Cluster) Status(ctx context.Context, i int) (size, state string, err error) {
	db, err := sql.Open("mysql", c.nodes[i].dsn(""))
	if err != nil {
		return "", "", err
	}
	defer db.Close()
	var name string
	if err := db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_cluster_size'").Scan(&name, &size); err != nil {
		return "", "", err
	}
	err = db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_local_state_comment'").Scan(&name, &state)
	return size, state, err
}

// DSN gives the data source name of a database on a node, made if it is missing.
func (c *Cluster) DSN(ctx context.Context, i int, name string) (string, error) {
	return c.nodes[i].DSN(ctx, name)
}

// Kill ends a node at once, as a crash would.
func (c *Cluster) Kill(i int) { c.nodes[i].Kill() }

// position is where a node that was killed has come to.
var position = regexp.MustCompile(`Recovered position: ?(\S+:\d+)`)

// Restart starts a node that was killed; it takes in what it has missed.
func (c *Cluster) Restart(ctx context.Context, i int) error {
	bin, err := binary("mariadbd")
	if err != nil {
		return err
	}
	dir := c.nodes[i].opts.Dir
	temporary, err := temporary(dir)
	if err != nil {
		return err
	}
	log := filepath.Join(dir, "recover.log")
	args := append([]string{"--no-defaults", "--datadir=" + filepath.Join(dir, "data"), temporary, "--wsrep-recover",
		"--wsrep-on=ON", "--wsrep-provider=" + provider, "--wsrep-cluster-address=gcomm://", "--binlog-format=ROW",
		"--log-error=" + log, "--pid-file=" + filepath.Join(dir, "pid"),
		"--socket=" + filepath.Join(dir, "sock"), "--skip-networking", "--innodb-log-file-size=256M"}, asRoot()...)
	failed := exec.CommandContext(ctx, bin, args...).Run()
	text, err := os.ReadFile(log)
	if err = errors.Join(failed, err); err != nil {
		return fmt.Errorf("recovering node %d: %w\n%s", i, err, tail(string(text), 15))
	}
	found := position.FindAllStringSubmatch(string(text), -1)
	if len(found) == 0 {
		return fmt.Errorf("node %d does not say where it has come to:\n%s", i, tail(string(text), 15))
	}
	return c.start(ctx, i, "--wsrep-start-position="+found[len(found)-1][1])
}

// CutOff has a node hear nothing of the others, nor they of it, until it is connected again.
func (c *Cluster) CutOff(ctx context.Context, i int, off bool) error {
	db, err := sql.Open("mysql", c.nodes[i].dsn(""))
	if err != nil {
		return err
	}
	defer db.Close()
	isolate := 0
	if off {
		isolate = 1
	}
	_, err = db.ExecContext(ctx, fmt.Sprintf("SET GLOBAL wsrep_provider_options = 'gmcast.isolate=%d'", isolate))
	return err
}

// Await waits until all nodes are one again.
func (c *Cluster) Await(ctx context.Context) error { return c.await(ctx, len(c.nodes)) }

// Stop ends all nodes, the first last, so that it could begin again.
func (c *Cluster) Stop() {
	for i := len(c.nodes) - 1; i >= 0; i-- {
		c.nodes[i].Stop()
	}
}
