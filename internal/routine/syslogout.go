package routine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Severities of what is told by syslog (RFC 5424 §6.2.1).
var severities = map[string]int{core.TellFailed: 3, core.TellCapacity: 3, core.TellCopies: 3, core.TellDrifted: 4, core.TellWaiting: 4, core.TellUnproven: 4, core.TellChanged: 5, core.TellRecovered: 5, core.TellDone: 6}

// facility of our messages: log audit for the audit log, otherwise local use 0.
const (
	facilityAudit = 13
	facilityLocal = 16
)

// record writes a message of RFC 5424. Parameters go into one structured element under the
// number that RFC 5612 keeps for what has none of its own.
func record(facility, severity int, at time.Time, host, id string, params [][2]string, says string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "<%d>1 %s %s magpie - %s ", facility*8+severity, at.UTC().Format("2006-01-02T15:04:05.000000Z"), host, id)
	if len(params) == 0 {
		b.WriteString("-")
	} else {
		b.WriteString("[magpie@32473")
		for _, p := range params {
			fmt.Fprintf(&b, ` %s="%s"`, p[0], strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(oneLine(p[1])))
		}
		b.WriteString("]")
	}
	b.WriteString(" " + oneLine(says))
	return []byte(b.String())
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// open reaches a syslog receiver: UDP (RFC 5426), TCP (RFC 6587) or TLS (RFC 5425).
func (t *steps) open(w core.Way) (conn net.Conn, err error) {
	network := "tcp"
	if w.Transport == "udp" {
		network = "udp"
	}
	if conn, err = t.dial(network, w.Address); err != nil || w.Transport != "tls" {
		return conn, err
	}
	host, _, _ := net.SplitHostPort(w.Address)
	config, err := tlsTo(host, w.CA)
	if err != nil {
		conn.Close()
		return nil, err
	}
	secured, err := t.secure(conn, config)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return secured, nil
}

// put writes one message, counting its octets where the way is a stream (RFC 6587 §3.4.1,
// RFC 5425 §4.3).
func put(conn net.Conn, w core.Way, message []byte) error {
	if w.Transport != "udp" {
		message = append(fmt.Appendf(nil, "%d ", len(message)), message...)
	} else if len(message) > 2048 { // RFC 5426 §3.2: what every receiver takes
		message = message[:2048]
	}
	_, err := conn.Write(message)
	return err
}

// syslog sends what a message tells of, one line each. Nobody answers: what was written is
// taken to be there.
func (t *steps) syslog(to store.Recipient, m store.Message, instance string) error {
	conn, err := t.open(to.Way)
	if err != nil {
		return err
	}
	defer conn.Close()
	return t.do("message", func() (string, error) {
		if err := t.hand(); err != nil {
			return "", err
		}
		for _, i := range m.Items {
			at, _ := time.Parse(time.RFC3339, i.At)
			var params [][2]string
			for _, p := range [][2]string{{"event", i.Event}, {"device", i.Device}, {"site", i.Site}, {"part", i.Part}, {"by", i.By}, {"job", i.Job}, {"message", m.ID}} {
				if p[1] != "" {
					params = append(params, p)
				}
			}
			severity, known := severities[i.Event]
			if !known {
				severity = 6
			}
			if err := put(conn, to.Way, record(facilityLocal, severity, at, instance, i.Event, params, strings.TrimPrefix(i.Device+": "+i.Says, ": "))); err != nil {
				return "", err
			}
		}
		return "sent; syslog has no answers", nil
	})
}

// mostAuditRows is how many rows of the audit log go at a time.
const mostAuditRows = 500

// sendAudit sends what was added to the audit log to the recipients that are to have it, each
// row with its number and code, so that they hold what the log's end was at any time. Rows
// may come twice, after a crash or where two instances send; none is left out.
func (s *Service) sendAudit(ctx context.Context) error {
	all, err := s.Store.As(job.Service).Recipients(ctx)
	for _, r := range all {
		if r.AuditSeq == nil || s.Now().Before(s.telling.auditAfter[r.ID]) {
			continue
		}
		if e := s.auditTo(ctx, r); e != nil {
			if s.telling.auditAfter == nil {
				s.telling.auditAfter = map[string]time.Time{}
			}
			s.telling.auditAfter[r.ID] = s.Now().Add(sendFirst)
			err = errors.Join(err, fmt.Errorf("the audit log for %s: %w", r.Name, e))
		}
	}
	return err
}

func (s *Service) auditTo(ctx context.Context, r store.Recipient) error {
	if r.Shut {
		return errShut
	}
	for from := *r.AuditSeq; ; {
		rows, err := s.Store.As(job.Service).AuditFrom(ctx, from, mostAuditRows)
		if err != nil || len(rows) == 0 {
			return err
		}
		within, cancel := context.WithTimeout(ctx, sendWithin)
		defer cancel()
		t := &steps{ctx: within}
		conn, err := t.open(r.Way)
		if err != nil {
			return err
		}
		for _, d := range rows {
			if err = put(conn, r.Way, auditRecord(d, s.Instance())); err != nil {
				break
			}
		}
		conn.Close()
		if err != nil {
			return err
		}
		to := rows[len(rows)-1].Seq
		mine := false
		if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) { mine, err = q.SentAudit(ctx, r.ID, from, to); return err }); err != nil || !mine {
			return err
		}
		from = to
	}
}

// auditRecord is one row of the audit log. Its number and code say how far the log had come.
func auditRecord(d store.AuditEntry, instance string) []byte {
	return record(facilityAudit, 6, d.At, instance, "audit", [][2]string{{"seq", fmt.Sprint(d.Seq)}, {"mac", d.MAC}, {"actor", d.Actor}, {"action", d.Action}, {"object", d.Object}}, d.Actor+": "+d.Action+" "+d.Object+core.Because(d.Detail))
}
