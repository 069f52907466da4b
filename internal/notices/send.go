package notices

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"bagaglio/internal/store"

	webhook "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/wneessen/go-mail"
)

// newSecret makes one to sign messages with, in the form that receivers take (Standard Webhooks, "Signature scheme").
func newSecret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return "whsec_" + base64.StdEncoding.EncodeToString(b)
}

// send tells a channel something, now.
func (n *Notices) send(ctx context.Context, k store.Channel, m Message) error {
	c, err := channelOf(k)
	if err != nil {
		return err
	}
	secret, err := n.vault.Open(vaultName(k.Name), k.Secret)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	switch c.Kind {
	case Web:
		return c.Target.call(ctx, string(secret), m)
	case Mail:
		return c.Target.post(ctx, string(secret), m)
	default:
		return c.Target.run(ctx, m)
	}
}

// web is a client that goes nowhere else than it is told.
var web = &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

// call tells a web server (Standard Webhooks: webhook-id, webhook-timestamp, webhook-signature).
func (t Target) call(ctx context.Context, secret string, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	signer, err := webhook.NewWebhook(secret)
	if err != nil {
		return err
	}
	now := time.Now()
	signature, err := signer.Sign(m.ID, now, body)
	if err != nil {
		return err
	}
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, t.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	q.Header.Set("Content-Type", "application/json")
	q.Header.Set(webhook.HeaderWebhookID, m.ID)
	q.Header.Set(webhook.HeaderWebhookTimestamp, strconv.FormatInt(now.Unix(), 10))
	q.Header.Set(webhook.HeaderWebhookSignature, signature)
	answer, err := web.Do(q)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 64<<10) // so that the line can be used again
	if answer.StatusCode/100 != 2 {
		return fmt.Errorf("%s answers %s", t.URL, answer.Status)
	}
	return nil
}

// mail is a message as a letter.
func (t Target) mail(m Message) (*mail.Msg, error) {
	letter := mail.NewMsg()
	err := errors.Join(letter.From(t.From), letter.To(t.To...))
	letter.Subject("Bagaglio: " + strings.ToValidUTF8(m.Text[:min(len(m.Text), 120)], ""))
	letter.SetBodyString(
		mail.TypeTextPlain,
		fmt.Sprintf("%s\n\nkind: %s\nat: %s\nservice: %s\n", m.Text, m.Kind, m.At.UTC().Format(time.RFC3339), m.Service),
	)
	letter.SetMessageIDWithValue(m.ID + "@bagaglio")
	return letter, err
}

// post sends it through a mail server.
func (t Target) post(ctx context.Context, password string, m Message) error {
	letter, err := t.mail(m)
	if err != nil {
		return err
	}
	host, port, err := net.SplitHostPort(t.Server)
	if err != nil {
		return err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	options := []mail.Option{mail.WithPort(number), mail.WithTLSPolicy(mail.TLSMandatory), mail.WithTimeout(sendWithin)}
	if t.Clear {
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	}
	if number == 465 { // RFC 8314, section 3.3: encrypted from the beginning
		options = append(options, mail.WithSSL())
	}
	if t.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(t.User), mail.WithPassword(password))
	}
	client, err := mail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, letter)
}

// run has a program told, which reads the message from its standard input.
func (t Target) run(ctx context.Context, m Message) error {
	body, err := json.Marshal(m)
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, filepath.Join(Programs, t.Program))
	c.Stdin, c.Env, c.WaitDelay = bytes.NewReader(
		body,
	), []string{
		"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin",
	}, time.Second
	if out, err := c.CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w: %s", t.Program, err, bytes.TrimSpace(out[:min(len(out), 300)]))
	}
	return nil
}
