// Package enginetest starts servers for tests of what reads databases.
package enginetest

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/ClickHouse/clickhouse-go/v2"
	"github.com/ClickHouse/clickhouse-go/v2/lib/driver"

	"proudsieve/engine"
)

// The servers' users, besides the one that may do all, which has no password.
const (
	Reader         = "reader"
	ReaderPassword = "only to read"
)

// ClickHouse is a server of this test, or several that know of each other as shards of the cluster "vale".
type ClickHouse struct {
	Nodes   []engine.Database
	servers []*exec.Cmd
}

// Kill ends a node at once.
func (c *ClickHouse) Kill(node int) { _ = c.servers[node].Process.Kill() }

func (c *ClickHouse) open(node int) (driver.Conn, error) {
	d := c.Nodes[node]
	return clickhouse.Open(&clickhouse.Options{Addr: []string{net.JoinHostPort(d.Host, strconv.Itoa(d.Port))}, ReadTimeout: time.Hour})
}

// Run does what each statement says, on a node.
func (c *ClickHouse) Run(ctx context.Context, node int, statements ...string) error {
	conn, err := c.open(node)
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, s := range statements {
		if err := conn.Exec(ctx, s); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	return nil
}

// Do is Run in a test.
func (c *ClickHouse) Do(t testing.TB, node int, statements ...string) {
	t.Helper()
	if err := c.Run(context.Background(), node, statements...); err != nil {
		t.Fatal(err)
	}
}

// StartClickHouse starts so many servers on loopback, with directories of their own that are gone after the test.
func StartClickHouse(t testing.TB, shards int) *ClickHouse {
	t.Helper()
	c, stop, err := Launch(t.Context(), t.TempDir(), shards)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	return c
}

// Launch starts so many servers on loopback, each with a directory of its own in a directory that is there. What it returns ends them.
func Launch(ctx context.Context, directory string, shards int) (c *ClickHouse, stop func(), err error) {
	program, err := exec.LookPath("clickhouse-server")
	if err != nil {
		program = "/usr/sbin/clickhouse-server"
	}
	if _, err := os.Stat(program); err != nil {
		return nil, nil, errors.New("clickhouse-server is needed; as root: apt-get install clickhouse-server")
	}
	ports, err := freePorts(3 * shards)
	if err != nil {
		return nil, nil, err
	}
	var remote strings.Builder
	for i := range shards {
		fmt.Fprintf(&remote, "<shard><replica><host>127.0.0.1</host><port>%d</port></replica></shard>", ports[3*i])
	}
	c = &ClickHouse{}
	var stops []func()
	stop = func() {
		for _, one := range stops {
			one()
		}
	}
	for i := range shards {
		of := filepath.Join(directory, strconv.Itoa(i))
		if err = os.Mkdir(of, 0o700); err == nil {
			err = configure(of, remote.String(), ports[3*i:3*i+3])
		}
		if err != nil {
			stop()
			return nil, nil, err
		}
		c.Nodes = append(c.Nodes, engine.Database{Engine: "clickhouse", Host: "127.0.0.1", Port: ports[3*i], Name: "default", User: "default"})
		command, end, err := start(program, of)
		if err != nil {
			stop()
			return nil, nil, err
		}
		c.servers, stops = append(c.servers, command), append(stops, end)
	}
	for i := range shards {
		if err := c.await(ctx, i); err != nil {
			stop()
			return nil, nil, err
		}
	}
	return c, stop, nil
}

func freePorts(n int) (ports []int, err error) {
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports, nil
}

func configure(directory, remote string, ports []int) error {
	config := fmt.Sprintf(`<yandex>
	<logger><level>warning</level><log>%[1]s/log</log><errorlog>%[1]s/errors</errorlog><size>10M</size><count>1</count></logger>
	<tcp_port>%[2]d</tcp_port><http_port>%[3]d</http_port><interserver_http_port>%[4]d</interserver_http_port>
	<listen_host>127.0.0.1</listen_host><interserver_http_host>127.0.0.1</interserver_http_host>
	<path>%[1]s/data/</path><tmp_path>%[1]s/tmp/</tmp_path><user_files_path>%[1]s/files/</user_files_path>
	<users_config>%[1]s/users.xml</users_config><default_profile>default</default_profile><default_database>default</default_database>
	<mark_cache_size>67108864</mark_cache_size><max_connections>100</max_connections>
	<remote_servers><vale>%[5]s</vale></remote_servers>
	<timezone>UTC</timezone>
</yandex>`, directory, ports[0], ports[1], ports[2], remote)
	user := func(name, password, profile string) string {
		return fmt.Sprintf("<%[1]s><password>%[2]s</password><networks><ip>127.0.0.1</ip></networks><profile>%[3]s</profile><quota>default</quota></%[1]s>", name, password, profile)
	}
	users := `<yandex><profiles><default><max_memory_usage>2000000000</max_memory_usage></default><readonly><readonly>1</readonly></readonly></profiles>
	<users>` + user("default", "", "default") + user(Reader, ReaderPassword, "readonly") + `</users><quotas><default></default></quotas></yandex>`
	for name, text := range map[string]string{"config.xml": config, "users.xml": users} {
		if err := os.WriteFile(filepath.Join(directory, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// start starts a server; what it returns ends it.
func start(program, directory string) (*exec.Cmd, func(), error) {
	command := exec.Command(program, "--config-file="+filepath.Join(directory, "config.xml"))
	command.Dir = directory
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := command.Start(); err != nil {
		return nil, nil, err
	}
	ended := make(chan struct{})
	go func() { _ = command.Wait(); close(ended) }()
	return command, func() {
		_ = command.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = command.Process.Kill()
			<-ended
		}
	}, nil
}

// await waits until a server answers.
func (c *ClickHouse) await(ctx context.Context, node int) error {
	conn, err := c.open(node)
	if err != nil {
		return err
	}
	defer conn.Close()
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		err := conn.Ping(ctx)
		if err == nil {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the server does not answer: %w", err)
		}
	}
}
