package run

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"

	"magpie/internal/api"
	"magpie/internal/link/inbox"
	"magpie/internal/visit"
)

// Config is what a service is started with.
type Config struct {
	Listen    string `yaml:"listen"`     // address and port
	Data      string `yaml:"data"`       // folder
	Database  string `yaml:"database"`   // DSN; empty: a server of our own
	MasterKey string `yaml:"master_key"` // key file; empty: master.key in the data folder
	Dialects  string `yaml:"dialects"`   // folder of further dialect files

	TLSCert string `yaml:"tls_cert"` // certificate file, PEM, with those that vouch for it; read again when it changes
	TLSKey  string `yaml:"tls_key"`  // its key's file
	TLSSelf bool   `yaml:"tls_self"` // a certificate that the service makes itself and keeps in the data folder
	Open    bool   `yaml:"plain_http_beyond_this_machine"`

	Sessions        int `yaml:"sessions"`          // conversations with devices at a time; 0: as usual
	SessionsPerSite int `yaml:"sessions_per_site"` // of one site; 0: no limit
	SessionsPerJump int `yaml:"sessions_per_jump"` // through one jump host; 0: as usual

	Connections int      `yaml:"connections"` // from clients at a time; 0: 4096, or half of the descriptors
	Proxies     []string `yaml:"proxies"`     // addresses or networks of the proxies before the service

	Syslog string `yaml:"syslog"` // address and port at which devices' messages are taken in, by UDP and TCP; empty: nowhere

	SyslogTLS string `yaml:"syslog_tls"` // the same by TLS, under the service's certificate; empty: nowhere

	Log   string `yaml:"log"`   // text or json
	Debug string `yaml:"debug"` // loopback address and port for profiles; empty: none

	SignOn *api.Provider `yaml:"sign_on"` // who signs people in besides passwords

	Inbox inbox.Config `yaml:"inbox"` // where devices send files to; off unless it has ports
}

// Setting is one thing of the configuration that the environment or a flag can say, too.
type Setting struct {
	Env, Flag, Usage string
	set              func(c *Config, value string) error
}

// Yes tells whether the setting is said or not, and has no value.
func (s Setting) Yes() bool { return !strings.Contains(s.Usage, "`") }

func word(of func(*Config) *string) func(*Config, string) error {
	return func(c *Config, v string) error { *of(c) = v; return nil }
}

func yes(of func(*Config) *bool) func(*Config, string) error {
	return func(c *Config, v string) (err error) {
		if *of(c), err = strconv.ParseBool(v); err != nil {
			err = fmt.Errorf("%q is neither true nor false", v)
		}
		return err
	}
}

// Settings are all that the environment or a flag can say. The file comes first, then the
// environment, then the flags; the later one wins.
var Settings = []Setting{
	{"MAGPIE_LISTEN", "listen", "`ADDRESS:PORT` to answer on", word(func(c *Config) *string { return &c.Listen })},
	{"MAGPIE_DATA", "data", "data `FOLDER`", word(func(c *Config) *string { return &c.Data })},
	{"MAGPIE_DATABASE", "", "", word(func(c *Config) *string { return &c.Database })}, // it holds a password
	{"MAGPIE_MASTER_KEY_FILE", "master-key", "master key `FILE`", word(func(c *Config) *string { return &c.MasterKey })},
	{"MAGPIE_DIALECTS", "dialects", "`FOLDER` of further dialect files", word(func(c *Config) *string { return &c.Dialects })},
	{"MAGPIE_TLS_CERT", "tls-cert", "certificate `FILE`, PEM, with those that vouch for it; read again when it changes", word(func(c *Config) *string { return &c.TLSCert })},
	{"MAGPIE_TLS_KEY", "tls-key", "`FILE` with the certificate's key", word(func(c *Config) *string { return &c.TLSKey })},
	{"MAGPIE_TLS_SELF", "tls-self", "answer by TLS with a certificate that the service makes itself; its fingerprint is shown", yes(func(c *Config) *bool { return &c.TLSSelf })},
	{"MAGPIE_PLAIN_HTTP_BEYOND_THIS_MACHINE", "plain-http-beyond-this-machine", "answer others without TLS: passwords and configurations go in the clear", yes(func(c *Config) *bool { return &c.Open })},
	{"MAGPIE_PROXIES", "proxies", "`ADDRESSES` or networks of the proxies before the service, with commas between", func(c *Config, v string) error { c.Proxies = strings.Split(v, ","); return nil }},
	{"MAGPIE_SYSLOG", "syslog", "`ADDRESS:PORT` at which devices' messages are taken in, by UDP and TCP", word(func(c *Config) *string { return &c.Syslog })},
	{"MAGPIE_SYSLOG_TLS", "syslog-tls", "`ADDRESS:PORT` at which they are taken in by TLS, under the service's certificate", word(func(c *Config) *string { return &c.SyslogTLS })},
	{"MAGPIE_LOG", "log", "`FORM` of the service's own log, text or json", word(func(c *Config) *string { return &c.Log })},
	{"MAGPIE_DEBUG", "debug", "`ADDRESS:PORT` on this machine at which profiles can be fetched", word(func(c *Config) *string { return &c.Debug })},
}

func (c Config) limits() visit.Limits {
	l := visit.DefaultLimits
	l.Site = c.SessionsPerSite
	if c.Sessions > 0 {
		l.Sessions = c.Sessions
	}
	if c.SessionsPerJump > 0 {
		l.Jump = c.SessionsPerJump
	}
	return l
}

// LoadConfig reads the configuration file, if there is one, then the environment, then what
// flags say, by their names. What makes no sense is an error that says where it was said.
func LoadConfig(path string, flags map[string]string) (c Config, err error) {
	c = Config{Listen: "127.0.0.1:8470", Data: "magpie-data", Log: "text"}
	if path != "" {
		raw, err := os.ReadFile(path)
		if err != nil {
			return c, fmt.Errorf("configuration: %w", err)
		}
		if err := yaml.UnmarshalWithOptions(raw, &c, yaml.Strict()); err != nil {
			return c, fmt.Errorf("configuration %s: %s", path, strings.SplitN(err.Error(), "\n", 2)[0])
		}
	}
	for _, s := range Settings {
		if v := os.Getenv(s.Env); v != "" {
			if err := s.set(&c, v); err != nil {
				return c, fmt.Errorf("configuration: %s: %w", s.Env, err)
			}
		}
	}
	for _, s := range Settings {
		if v, said := flags[s.Flag]; said && s.Flag != "" {
			if err := s.set(&c, v); err != nil {
				return c, fmt.Errorf("--%s: %w", s.Flag, err)
			}
		}
	}
	return c, c.sound()
}

// sound tells what of a configuration makes no sense.
func (c Config) sound() error {
	for i, p := range c.Proxies {
		c.Proxies[i] = strings.TrimSpace(p)
		_, err1 := netip.ParseAddr(c.Proxies[i])
		_, err2 := netip.ParsePrefix(c.Proxies[i])
		if err1 != nil && err2 != nil {
			return fmt.Errorf("configuration: proxies: %q is neither an address nor a network; write it like 192.0.2.7 or 192.0.2.0/28", p)
		}
	}
	if c.Log != "text" && c.Log != "json" {
		return fmt.Errorf("configuration: log: %q is no form of a log; it is text or json", c.Log)
	}
	if (c.TLSCert == "") != (c.TLSKey == "") {
		return errors.New("configuration: a certificate goes with its key: give both tls_cert and tls_key, or neither")
	}
	if c.SyslogTLS != "" && !c.byTLS() {
		return errors.New("configuration: syslog_tls takes messages in under the service's certificate; give tls_cert and tls_key, or tls_self")
	}
	if c.TLSCert != "" && c.TLSSelf {
		return errors.New("configuration: tls_cert names a certificate and tls_self asks for another one; give one of them")
	}
	if c.Debug != "" && !onThisMachine(c.Debug) {
		return fmt.Errorf("configuration: debug: %s is not on this machine; profiles hold what the service holds in memory, so they are for a loopback address only, like 127.0.0.1:6060", c.Debug)
	}
	if c.SignOn != nil {
		if err := c.SignOn.Sound(); err != nil {
			return fmt.Errorf("configuration: %w", err)
		}
	}
	if !c.byTLS() && !c.Open && !onThisMachine(c.Listen) {
		return fmt.Errorf("configuration: listen: %s is reached from other machines, and without TLS passwords and configurations go in the clear; give tls_cert and tls_key, or tls_self, or say that it is meant: plain_http_beyond_this_machine", c.Listen)
	}
	return nil
}

func (c Config) byTLS() bool { return c.TLSCert != "" || c.TLSSelf }

// onThisMachine tells whether an address to listen on is reached from this machine only.
func onThisMachine(address string) bool {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return true // listening says what is wrong with it
	}
	if host == "localhost" {
		return true
	}
	ip, err := netip.ParseAddr(host)
	return err == nil && ip.Unmap().IsLoopback()
}
