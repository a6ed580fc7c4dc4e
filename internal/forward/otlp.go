package forward

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"time"

	common "go.opentelemetry.io/proto/otlp/common/v1"
	logs "go.opentelemetry.io/proto/otlp/logs/v1"
	resource "go.opentelemetry.io/proto/otlp/resource/v1"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"

	"widelark/core/policy"
	"widelark/internal/outbound"
)

// otlp sends records as logs of OpenTelemetry: OTLP 1.x, binary protobuf over HTTP.
type otlp struct {
	address string
	client  *http.Client
	host    string
	version string
	log     *slog.Logger
}

func newOTLP(address string, config *tls.Config, r *Runner) *otlp {
	client := outbound.Client(r.Ranges)
	client.Transport.(*http.Transport).TLSClientConfig = config
	return &otlp{address, client, r.Host, r.Version, r.Log}
}

// conventions are the names that OpenTelemetry has for what records say; other fields stand under widelark.
var conventions = map[string]string{
	"url": "url.full", "method": "http.request.method", "address": "client.address", "status": "http.response.status_code", "agent": "user_agent.original", "person": "user.name", "size": "http.response.body.size",
}

// mostLogs bounds how many logs a request carries.
const mostLogs = 2000

// send implements sender.
func (o *otlp) send(ctx context.Context, records []Sent) error {
	defer o.client.CloseIdleConnections()
	for len(records) > 0 {
		n := min(len(records), mostLogs)
		if err := o.post(ctx, records[:n]); err != nil {
			return err
		}
		records = records[n:]
	}
	return nil
}

func (o *otlp) post(ctx context.Context, records []Sent) error {
	all := make([]*logs.LogRecord, len(records))
	now := uint64(time.Now().UnixNano())
	for i := range records {
		s := &records[i]
		severity := map[policy.Verdict]logs.SeverityNumber{policy.Watch: logs.SeverityNumber_SEVERITY_NUMBER_INFO2, policy.Hold: logs.SeverityNumber_SEVERITY_NUMBER_INFO3, policy.Block: logs.SeverityNumber_SEVERITY_NUMBER_WARN}[s.Verdict]
		if severity == 0 {
			severity = logs.SeverityNumber_SEVERITY_NUMBER_INFO
		}
		all[i] = &logs.LogRecord{TimeUnixNano: uint64(s.At.UnixNano()), ObservedTimeUnixNano: now, SeverityNumber: severity, SeverityText: string(s.Verdict), EventName: "widelark.request", Body: text(s.text())}
		for _, f := range s.Fields {
			name := conventions[f.Key]
			if name == "" {
				name = "widelark." + f.Key
			}
			value := text(f.Value)
			switch f.Key {
			case "status":
				value = number(int64(s.Status))
			case "size":
				value = number(s.Size)
			case "milliseconds":
				value = number(s.Took.Milliseconds())
			case "revision":
				value = number(s.Revision)
			}
			all[i].Attributes = append(all[i].Attributes, &common.KeyValue{Key: name, Value: value})
		}
	}
	packed, err := proto.Marshal(&logs.LogsData{ResourceLogs: []*logs.ResourceLogs{{
		Resource: &resource.Resource{Attributes: []*common.KeyValue{
			{Key: "service.name", Value: text("widelark")}, {Key: "service.version", Value: text(o.version)}, {Key: "host.name", Value: text(o.host)},
		}},
		ScopeLogs: []*logs.ScopeLogs{{Scope: &common.InstrumentationScope{Name: "widelark.journal"}, LogRecords: all}},
	}}})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, o.address, bytes.NewReader(packed))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/x-protobuf")
	answer, err := o.client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil {
		return err
	}
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("the collector answers %s", answer.Status)
	}
	if n := refused(said); n > 0 {
		o.log.WarnContext(ctx, "the collector refused some records for good", "records", n) // they must not be sent again
	}
	return nil
}

// refused returns how many records an answer says were refused: the number 1 of the message with the number 1 (opentelemetry.proto.collector.logs.v1). A request is on the wire what [logs.LogsData] is;
// the package that has both would bring a whole framework for calls.
func refused(answer []byte) uint64 {
	inside := func(message []byte, kind protowire.Type) (n uint64, part []byte) {
		for len(message) > 0 {
			number, is, size := protowire.ConsumeTag(message)
			if size < 0 {
				return 0, nil
			}
			message = message[size:]
			if number == 1 && is == kind {
				if kind == protowire.VarintType {
					n, _ = protowire.ConsumeVarint(message)
				} else {
					part, _ = protowire.ConsumeBytes(message)
				}
				return n, part
			}
			if size = protowire.ConsumeFieldValue(number, is, message); size < 0 {
				return 0, nil
			}
			message = message[size:]
		}
		return 0, nil
	}
	_, partial := inside(answer, protowire.BytesType)
	n, _ := inside(partial, protowire.VarintType)
	return n
}

func text(value string) *common.AnyValue {
	return &common.AnyValue{Value: &common.AnyValue_StringValue{StringValue: value}}
}

func number(n int64) *common.AnyValue {
	return &common.AnyValue{Value: &common.AnyValue_IntValue{IntValue: n}}
}
