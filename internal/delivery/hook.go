package delivery

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"time"

	"widelark/internal/secret"
)

// SecretPurpose is what secrets of hooks are sealed for.
const SecretPurpose = "hook"

// Poster posts messages to hooks.
type Poster struct {
	Client *http.Client // that reaches only permitted addresses
	Box    *secret.Box  // nil where there is none: then nothing is signed
}

// Send implements [Sender]. The body's digest (RFC 9530), the method, the address and the message's id are signed with HMAC-SHA256 (RFC 9421, section 3.3.3).
func (p *Poster) Send(ctx context.Context, m *Message) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, m.To, bytes.NewReader(m.JSON))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Idempotency-Key", `"`+m.ID.String()+`"`)
	if len(m.Secret) > 0 && p.Box != nil {
		key, err := p.Box.Open(SecretPurpose, m.Secret)
		if err != nil {
			return fmt.Errorf("its secret cannot be opened: %w", err)
		}
		Sign(r, m.JSON, key, time.Now())
	}
	answer, err := p.Client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(answer.Body, 200))
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("%s answers %s: %s", r.URL.Host, answer.Status, said)
	}
	return nil
}

// Sign signs a request (RFC 9421).
func Sign(r *http.Request, body, key []byte, at time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	r.Header.Set("Content-Digest", digest)
	params := fmt.Sprintf(`("@method" "@target-uri" "content-digest" "idempotency-key");created=%d;alg="hmac-sha256"`, at.Unix())
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s", r.Method, r.URL, digest, r.Header.Get("Idempotency-Key"), params)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", "lark="+params)
	r.Header.Set("Signature", "lark=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}
