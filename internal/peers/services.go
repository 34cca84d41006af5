package peers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/smtp"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Certificate makes a certificate for names of this machine, and the configuration that trusts it.
func Certificate(t testing.TB, dir string, names ...string) (certFile, keyFile string, trusts *tls.Config) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "localhost"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		DNSNames: append(names, "localhost"), IPAddresses: []net.IP{net.ParseIP("127.0.0.1")}, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	keyDER, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	cert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	certFile = Write(t, dir, "cert.pem", string(cert))
	keyFile = Write(t, dir, "key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: keyDER})))
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(cert)
	return certFile, keyFile, &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
}

// MariaDB starts an empty server with the database "co_op" and the user "reader", password "reader-1".
func MariaDB(t testing.TB) (address string) {
	t.Helper()
	server, install, client := Find(t, "mariadbd", "mariadb-server"), Find(t, "mariadb-install-db", "mariadb-server"), Find(t, "mariadb", "mariadb-client")
	dir, port := Dir(t), Port(t)
	as := Account(t, "mysql")
	data := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(data, 0o755))
	Own(t, dir, as)
	Run(t, as, "", install, "--no-defaults", "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db")
	sock := filepath.Join(dir, "s")
	Start(t, port, as, nil, server, "--no-defaults", "--datadir="+data, "--port="+strconv.Itoa(port), "--bind-address=127.0.0.1", "--socket="+sock, "--pid-file="+filepath.Join(dir, "pid"), "--skip-log-bin", "--innodb-flush-log-at-trx-commit=0")
	Run(t, as, "CREATE DATABASE co_op CHARACTER SET utf8mb4; CREATE USER owner@'%' IDENTIFIED BY 'owner-1'; GRANT ALL ON co_op.* TO owner@'%'; CREATE USER reader@'%' IDENTIFIED BY 'reader-1'; GRANT SELECT ON co_op.* TO reader@'%';", client, "--no-defaults", "--socket="+sock, "-uroot")
	return Local(port)
}

// Radicale starts a CalDAV server with the user "marit", password "marit-1".
func Radicale(t testing.TB) (address string) {
	t.Helper()
	python := Find(t, "python3", "python3")
	program := Find(t, "radicale", "radicale")
	dir, port := Dir(t), Port(t)
	Write(t, dir, "users", "marit:marit-1\n")
	config := Write(t, dir, "config", fmt.Sprintf("[server]\nhosts = 127.0.0.1:%d\n[auth]\ntype = htpasswd\nhtpasswd_filename = %s/users\nhtpasswd_encryption = plain\n[storage]\nfilesystem_folder = %s/store\n", port, dir, dir))
	if strings.Contains(firstLine(program), "/usr/bin/python3") {
		python = "/usr/bin/python3"
	}
	Start(t, port, nil, nil, python, program, "--config", config)
	return "http://" + Local(port) + "/"
}

func firstLine(file string) string {
	raw, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	line, _, _ := strings.Cut(string(raw[:min(len(raw), 200)]), "\n")
	return line
}

// Nginx serves a folder, with validators, and asks for a user on /private/.
func Nginx(t testing.TB) (address, folder string) {
	t.Helper()
	program := Find(t, "nginx", "nginx-light")
	dir, port := Dir(t), Port(t)
	folder = filepath.Join(dir, "www")
	require.NoError(t, os.Mkdir(folder, 0o755))
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;"
	}
	config := Write(t, dir, "nginx.conf", fmt.Sprintf(`%s
daemon off; pid %[2]s/pid; error_log %[2]s/error.log; worker_processes 1;
events { worker_connections 64; }
http { access_log %[2]s/access.log; client_body_temp_path %[2]s/t1; proxy_temp_path %[2]s/t2; fastcgi_temp_path %[2]s/t3; uwsgi_temp_path %[2]s/t4; scgi_temp_path %[2]s/t5;
  types { text/csv csv; application/atom+xml atom; application/rss+xml rss; application/json json; text/calendar ics; }
  server { listen 127.0.0.1:%[3]d; root %[4]s; etag on; } }
`, user, dir, port, folder))
	Start(t, port, nil, nil, program, "-e", filepath.Join(dir, "error.log"), "-c", config, "-p", dir)
	return "http://" + Local(port), folder
}

// Mail is an IMAP server with a mail server before it.
type Mail struct {
	IMAP, SMTP string // addresses; SMTP is empty where there is no mail server
	TLS        *tls.Config
	Dir        string
}

// Log is what both servers have written down.
func (m *Mail) Log() string {
	a, _ := os.ReadFile(filepath.Join(m.Dir, "log"))
	_, port, _ := net.SplitHostPort(m.SMTP)
	b, _ := os.ReadFile("/var/log/dorfbote-test-" + port + ".log")
	return string(a) + string(b)
}

// Dovecot starts an IMAP server with the user "marit", password "marit-1". Mail for her comes by LMTP from a postfix,
// where this machine lets one be started.
func Dovecot(t testing.TB) *Mail {
	t.Helper()
	program := Find(t, "dovecot", "dovecot-imapd")
	if os.Geteuid() != 0 {
		t.Skip("dovecot is started by root alone")
	}
	dir, imap, lmtp, auth := Dir(t), Port(t), Port(t), Port(t)
	cert, key, trusts := Certificate(t, dir)
	me := Account(t, "nobody")
	Write(t, dir, "users", fmt.Sprintf("marit:{PLAIN}marit-1:%d:%d::%s/home::\n", me.Uid, me.Gid, dir))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "home"), 0o755))
	Own(t, filepath.Join(dir, "home"), me)
	config := Write(t, dir, "dovecot.conf", fmt.Sprintf(`
base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = %[1]s/log
protocols = imap lmtp
mail_max_userip_connections = 100
listen = 127.0.0.1
ssl = yes
ssl_cert = <%[2]s
ssl_key = <%[3]s
disable_plaintext_auth = no
auth_username_format = %%n
mail_location = maildir:%[1]s/home/mail
first_valid_uid = 1
mail_uid = %[6]d
mail_gid = %[7]d
passdb {
  driver = passwd-file
  args = %[1]s/users
}
userdb {
  driver = passwd-file
  args = %[1]s/users
}
service imap-login {
  inet_listener imap {
    port = %[4]d
  }
  inet_listener imaps {
    port = 0
  }
}
service lmtp {
  inet_listener lmtp {
    address = 127.0.0.1
    port = %[5]d
  }
}
service stats {
  unix_listener stats-writer {
    mode = 0666
  }
}
service auth {
  unix_listener auth-userdb {
    mode = 0666
  }
  inet_listener {
    address = 127.0.0.1
    port = %[8]d
  }
}
`, dir, cert, key, imap, lmtp, me.Uid, me.Gid, auth))
	Start(t, imap, nil, nil, program, "-F", "-c", config)
	return &Mail{IMAP: Local(imap), TLS: trusts, Dir: dir, SMTP: postfix(t, dir, lmtp, auth, cert, key)}
}

// postfix starts a mail server that hands everything for localhost to an LMTP server.
func postfix(t testing.TB, dir string, lmtp, auth int, cert, key string) string {
	program := ""
	for _, p := range []string{"/usr/sbin/postfix"} {
		if _, err := os.Stat(p); err == nil {
			program = p
		}
	}
	if program == "" {
		return ""
	}
	port := Port(t)
	conf := filepath.Join(dir, "postfix")
	for _, sub := range []string{"postfix", "queue", "lib"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, sub), 0o755))
	}
	Own(t, filepath.Join(dir, "lib"), Account(t, "postfix"))
	Write(t, conf, "main.cf", fmt.Sprintf(`compatibility_level = 3.6
queue_directory = %[1]s/queue
data_directory = %[1]s/lib
mail_owner = postfix
setgid_group = postdrop
myhostname = localhost
mydestination = localhost
inet_interfaces = 127.0.0.1
inet_protocols = ipv4
mynetworks = 127.0.0.0/8
local_recipient_maps =
alias_maps =
mailbox_transport = lmtp:inet:127.0.0.1:%[2]d
smtpd_recipient_restrictions = reject_unlisted_recipient, permit_mynetworks, reject
smtpd_sasl_auth_enable = yes
smtpd_sasl_type = dovecot
smtpd_sasl_path = inet:127.0.0.1:%[4]d
smtpd_tls_security_level = may
smtpd_tls_cert_file = %[5]s
smtpd_tls_key_file = %[6]s
smtputf8_enable = yes
message_size_limit = 20000000
maillog_file = /var/log/dorfbote-test-%[3]d.log
import_environment = MAIL_CONFIG
`, dir, lmtp, port, auth, cert, key))
	t.Cleanup(func() { _ = os.Remove(fmt.Sprintf("/var/log/dorfbote-test-%d.log", port)) })
	services := []string{fmt.Sprintf("127.0.0.1:%d inet n - n - - smtpd", port)}
	services = append(services, []string{"pickup unix n - n 60 1 pickup", "tlsmgr unix - - n 1000? 1 tlsmgr", "cleanup unix n - n - 0 cleanup", "qmgr unix n - n 300 1 qmgr", "rewrite unix - - n - - trivial-rewrite", "bounce unix - - n - 0 bounce", "defer unix - - n - 0 bounce", "trace unix - - n - 0 bounce", "verify unix - - n - 1 verify", "flush unix n - n 1000? 0 flush", "proxymap unix - - n - - proxymap", "local unix - n n - - local", "lmtp unix - - n - - lmtp", "smtp unix - - n - - smtp", "error unix - - n - - error", "retry unix - - n - - error", "anvil unix - - n - 1 anvil", "scache unix - - n - 1 scache", "postlog unix-dgram n - n - 1 postlogd"}...)
	Write(t, conf, "master.cf", strings.Join(services, "\n")+"\n")
	Run(t, nil, "", program, "-c", conf, "check")
	Start(t, port, nil, nil, program, "-c", conf, "start-fg")
	t.Cleanup(func() { // the master leaves its group
		raw, _ := os.ReadFile(filepath.Join(dir, "queue", "pid", "master.pid"))
		if pid, err := strconv.Atoi(strings.TrimSpace(string(raw))); err == nil {
			if p, err := os.FindProcess(pid); err == nil {
				_ = p.Kill()
			}
		}
	})
	return Local(port)
}

// Chat is an XMPP server.
type Chat struct {
	Address string
	Domain  string
	Rooms   string
	TLS     *tls.Config
}

// Prosody starts an XMPP server with rooms, and the accounts dorfbote and jonas, whose passwords are their names and
// "-1".
func Prosody(t testing.TB) *Chat {
	t.Helper()
	program := Find(t, "prosody", "prosody")
	dir, port := Dir(t), Port(t)
	cert, key, trusts := Certificate(t, dir, "chat.example", "rooms.chat.example")
	as := Account(t, "prosody")
	Write(t, dir, "data/chat%2eexample/accounts/dorfbote.dat", "return { [\"password\"] = \"dorfbote-1\"; };\n")
	Write(t, dir, "data/chat%2eexample/accounts/jonas.dat", "return { [\"password\"] = \"jonas-1\"; };\n")
	config := Write(t, dir, "prosody.cfg.lua", fmt.Sprintf(`
data_path = "%[1]s/data"; pidfile = "%[1]s/pid"; log = { info = "%[1]s/log" }
modules_enabled = { "roster", "saslauth", "tls", "disco", "ping", "posix" }
authentication = "internal_plain"; storage = "internal"
c2s_ports = { %[2]d }; c2s_interfaces = { "127.0.0.1" }; s2s_ports = {}; http_ports = {}; https_ports = {}
modules_disabled = { "s2s" }
ssl = { certificate = "%[3]s"; key = "%[4]s" }
VirtualHost "chat.example"
Component "rooms.chat.example" "muc"
  restrict_room_creation = false
  muc_room_default_public = true
  muc_room_default_history_length = 50
  max_history_messages = 50
`, dir, port, cert, key))
	Own(t, dir, as)
	Start(t, port, as, nil, program, "--config", config, "-F")
	return &Chat{Address: Local(port), Domain: "chat.example", Rooms: "rooms.chat.example", TLS: trusts}
}

// Post hands a letter to the mail server, as any other server would.
func (m *Mail) Post(t testing.TB, from, to, letter string) {
	t.Helper()
	c, err := smtp.Dial(m.SMTP)
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.Mail(from))
	require.NoError(t, c.Rcpt(to))
	w, err := c.Data()
	require.NoError(t, err)
	_, err = w.Write([]byte(letter))
	require.NoError(t, err)
	require.NoError(t, w.Close())
}
