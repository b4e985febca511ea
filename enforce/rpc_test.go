package enforce_test

import (
	"context"
	"net"
	"testing"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/credentials/insecure"
	"google.golang.org/grpc/health"
	healthpb "google.golang.org/grpc/health/grpc_health_v1"
	"google.golang.org/grpc/metadata"
	"google.golang.org/grpc/status"
	"google.golang.org/grpc/test/bufconn"

	"sentier/enforce"
	"sentier/enforce/rpc"
)

// TestAServerOfGRPC lets calls and streams through whose caller may, and ends a stream at the moment at which its caller may no longer.
func TestAServerOfGRPC(t *testing.T) {
	t.Parallel()
	s := begin(t)
	point := s.open(nil)
	reads := func(ctx context.Context, _ string, _ any) (enforce.Question, bool) {
		in, _ := metadata.FromIncomingContext(ctx)
		user := in.Get("proved-user")
		if len(user) != 1 {
			return enforce.Question{}, false
		}
		return enforce.Question{User: user[0], Right: "view", Device: "twin-mast"}, true
	}
	server := grpc.NewServer(grpc.UnaryInterceptor(rpc.Unary(point, reads)), grpc.StreamInterceptor(rpc.Stream(point, reads)))
	healthpb.RegisterHealthServer(server, health.NewServer())
	listener := bufconn.Listen(1 << 20)
	go server.Serve(listener) // it ends with Stop
	defer server.Stop()
	line, err := grpc.NewClient("passthrough:///here", grpc.WithContextDialer(func(ctx context.Context, _ string) (net.Conn, error) { return listener.DialContext(ctx) }), grpc.WithTransportCredentials(insecure.NewCredentials()))
	if err != nil {
		t.Fatal(err)
	}
	defer line.Close()
	client := healthpb.NewHealthClient(line)
	as := func(user string) context.Context {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		t.Cleanup(cancel)
		if user == "" {
			return ctx
		}
		return metadata.AppendToOutgoingContext(ctx, "proved-user", user)
	}
	for user, want := range map[string]codes.Code{"tomas.field": codes.OK, "nobody.known": codes.PermissionDenied, "": codes.Unauthenticated} {
		if _, err := client.Check(as(user), &healthpb.HealthCheckRequest{}); status.Code(err) != want {
			t.Errorf("%q is answered %v, want %v", user, err, want)
		}
	}
	if stream, err := client.Watch(as("nobody.known"), &healthpb.HealthCheckRequest{}); err == nil {
		if _, err = stream.Recv(); status.Code(err) != codes.PermissionDenied {
			t.Errorf("a stream for somebody who may not: %v", err)
		}
	}
	stream, err := client.Watch(as("tomas.field"), &healthpb.HealthCheckRequest{})
	if err == nil {
		_, err = stream.Recv()
	}
	if err != nil {
		t.Fatal(err)
	}
	s.ask("PATCH", "/api/v1/users/tomas.field", `{"status":"suspended"}`, nil)
	if _, err := stream.Recv(); status.Code(err) != codes.PermissionDenied {
		t.Errorf("a stream goes on for somebody who may no longer: %v", err)
	}
}
