package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"time"

	"sentier/enforce"
	"sentier/internal/client"
	"sentier/internal/daemon"
	"sentier/internal/panel"
	"sentier/internal/wire"
)

// The equipment that the demonstration stands in for, and who stands before its panel.
var (
	standIns = []panel.Device{
		{ID: "estuary-gate-1", Name: "Estuary gate 1", Kind: "lock", Rests: "closed", Acts: "opening", Do: "Open", Stop: "Close"},
		{ID: "twin-bridge-north", Name: "Twin bridge north", Kind: "bridge", Rests: "down", Acts: "lifting", Do: "Lift", Stop: "Lower"},
		{ID: "estuary-pump-1", Name: "Estuary pump 1", Kind: "pump", Rests: "still", Acts: "running", Do: "Start", Stop: "Stop"},
	}
	atThePanel = []panel.Person{{ID: "clara.fontes", Name: "Clara Fontes"}, {ID: "tomas.field", Name: "Tomas Field"}, {ID: "asha.raman", Name: "Asha Raman"}}
)

// standInGate runs a gate at the estuary beside the demonstration, and the panel that asks it, until ctx ends.
func (a *app) standInGate(ctx context.Context, d *daemon.Daemon, o daemon.Options, token string) error {
	clock := o.Clock
	if clock == nil {
		clock = time.Now
	}
	dir := filepath.Join(o.Dir, "gate")
	secret, hash := daemon.NewSecret("sentier_gate_")
	_, key, err := daemon.Machine(o)
	if err != nil {
		return err
	}
	options := daemon.GateOptions{
		Enforce: enforce.Options{Service: d.Address(), Token: token, Keys: []string{key}, Dir: dir, Clock: clock}, Listen: "127.0.0.1:0", Machine: "estuary", Version: a.Version, Most: 1_000_000,
		Log: o.Log,
	}
	copy(options.Hash[:], hash)
	gate, err := daemon.OpenGate(ctx, options)
	if err != nil {
		return fmt.Errorf("stand in for a gate: %w", err)
	}
	name, gateKey := gate.Machine()
	c := &client.Client{Base: d.Address(), Token: token}
	if err := c.Do(ctx, "PUT", machinePath(name), nil, wire.AdmitMachine{Key: gateKey}, nil); err != nil {
		return fmt.Errorf("stand in for a gate: %w", err)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("stand in for a panel: %w", err)
	}
	server := servePanel(ctx, listener, o.Log, panel.Options{Gate: gate.Address(), Secret: secret, Site: "Larkmere Navigation, estuary", Place: "estuary-gate", Devices: standIns, People: atThePanel, Clock: clock})
	go func() {
		<-ctx.Done()
		_ = server.Close() // the demonstration has ended
	}()
	fmt.Fprintf(a.Out, `
A gate at the estuary, which follows this service, and a panel with a lock, a bridge and a pump that ask it:

  Panel     http://%[1]s
  Gate      %[2]s

The estuary gate is locked out while divers are below: its place on the panel is dark. End the lock-out, and it is lit:

  %[3]s device release-lock-out estuary-gate-1
`, listener.Addr(), gate.Address(), programName())
	return gate.Run(ctx)
}

// servePanel shows a panel on a listener.
func servePanel(ctx context.Context, listener net.Listener, log *slog.Logger, o panel.Options) *http.Server {
	p := panel.New(o)
	server := &http.Server{Handler: p, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelDebug)}
	go p.Run(ctx)
	go func() {
		if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			log.Error("the stand-in for a panel has ended", "error", err)
		}
	}()
	return server
}
