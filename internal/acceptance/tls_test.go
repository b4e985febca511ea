package acceptance

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/demo"
)

// certificate makes a certificate for loopback that nobody trusts but who is given it.
func certificate(t *testing.T, dir string) (cert, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "larkmere.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	cert = write(t, dir+"/cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})))
	key = write(t, dir+"/key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret})))
	pool = x509.NewCertPool()
	pool.AppendCertsFromPEM(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	return cert, key, pool
}

// TestOverTLS serves with a certificate: the cookie is for secure connections alone, who does not know the certificate is told
// so, and what speaks plain HTTP gets no answer of the service.
func TestOverTLS(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	cert, key, pool := certificate(t, dir)
	ctx, stop := context.WithCancel(t.Context())
	d, err := daemon.Open(ctx, daemon.Options{Dir: dir + "/data", Listen: "127.0.0.1:0", Certificate: cert, Key: key, Log: slog.New(slog.DiscardHandler), Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	if err := d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Password: password, Policy: p}); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- d.Run(ctx) }()
	defer func() {
		stop()
		if err := <-ended; err != nil {
			t.Errorf("the service ended with %v", err)
		}
	}()
	if !strings.HasPrefix(d.Address(), "https://127.0.0.1:") {
		t.Fatalf("the address is %s", d.Address())
	}
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	answer, err := client.Post(d.Address()+"/api/v1/session", "application/json", strings.NewReader(`{"user":"ines.carvalho","password":"`+password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	cookies := answer.Cookies()
	if answer.StatusCode != 200 || len(cookies) != 1 || !cookies[0].Secure || !cookies[0].HttpOnly {
		t.Errorf("signing in: %s with the cookies %v", answer.Status, cookies)
	}
	if answer.TLS == nil || answer.TLS.Version < tls.VersionTLS12 {
		t.Errorf("the connection is %+v", answer.TLS)
	}
	old := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, MaxVersion: tls.VersionTLS11}}}
	if answer, err := old.Get(d.Address() + "/healthz"); err == nil {
		answer.Body.Close()
		t.Error("TLS 1.1 was spoken")
	}
	plain, err := client.Get(strings.Replace(d.Address(), "https", "http", 1) + "/healthz")
	if err == nil {
		text, _ := io.ReadAll(plain.Body)
		plain.Body.Close()
		if plain.StatusCode != 400 || strings.Contains(string(text), "ok") {
			t.Errorf("plain HTTP was answered with %s %s", plain.Status, text)
		}
	}
	// A certificate that is put in its place counts with the next connection; one that is none does not, and the one before goes on.
	serial := func(pool *x509.CertPool) string {
		conn, err := tls.Dial("tcp", strings.TrimPrefix(d.Address(), "https://"), &tls.Config{RootCAs: pool})
		if err != nil {
			return err.Error()
		}
		defer conn.Close()
		return string(conn.ConnectionState().PeerCertificates[0].Signature)
	}
	before := serial(pool)
	_, _, another := certificate(t, dir)
	for range 100 { // the files are looked at every second
		if got := serial(another); got != before && !strings.Contains(got, "certificate") {
			before = got
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	write(t, cert, "no certificate")
	time.Sleep(1100 * time.Millisecond)
	if got := serial(another); got != before {
		t.Errorf("after the certificate was broken: %q", got)
	}
	code, _, errOut := (&world{t: t, url: d.Address()}).runAs("sentier_none", "", "user", "list")
	if code != 2 || !strings.Contains(errOut, "certificate") {
		t.Errorf("a command that does not know the certificate: %d %s", code, errOut)
	}
}
