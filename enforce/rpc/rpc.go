// Package rpc guards servers of gRPC by an enforcement point.
package rpc

import (
	"context"
	"time"

	"google.golang.org/grpc"
	"google.golang.org/grpc/codes"
	"google.golang.org/grpc/status"

	"sentier/enforce"
)

// Reads reads from a call what it is about, and who makes it, which whoever stands before it has proved; false: there is nobody, and nothing is let through. req is
// nil for a stream.
type Reads func(ctx context.Context, method string, req any) (enforce.Question, bool)

// Unary lets calls through whose caller may do what they are about. Others have Unauthenticated, PermissionDenied, or Unavailable where the point opens nothing
// now.
func Unary(p *enforce.Point, reads Reads) grpc.UnaryServerInterceptor {
	return func(ctx context.Context, req any, info *grpc.UnaryServerInfo, next grpc.UnaryHandler) (any, error) {
		q, ok := reads(ctx, info.FullMethod, req)
		if !ok {
			return nil, nobody
		}
		if a := p.Ask(&q); !a.Allowed {
			return nil, refusal(a)
		}
		return next(ctx, req)
	}
}

// Stream lets streams through as [Unary] does calls, and ends one whose caller may no longer: when the answer ends, or the policy changes.
func Stream(p *enforce.Point, reads Reads) grpc.StreamServerInterceptor {
	return func(server any, stream grpc.ServerStream, info *grpc.StreamServerInfo, next grpc.StreamHandler) error {
		q, ok := reads(stream.Context(), info.FullMethod, nil)
		if !ok {
			return nobody
		}
		a := p.Ask(&q)
		if !a.Allowed {
			return refusal(a)
		}
		ctx, cancel := context.WithCancelCause(stream.Context())
		defer cancel(nil)
		go watch(ctx, p, q, a, cancel)
		err := next(server, guarded{stream, ctx})
		if cause := context.Cause(ctx); err != nil && cause != nil && status.Code(cause) != codes.Unknown {
			return cause // and not that the stream was broken off
		}
		return err
	}
}

// watch ends what a call does when its caller may no longer.
func watch(ctx context.Context, p *enforce.Point, q enforce.Question, a enforce.Answer, end func(error)) {
	for {
		changed := p.Changed()
		if a = p.Ask(&q); !a.Allowed {
			end(refusal(a))
			return
		}
		var over <-chan time.Time
		if !a.Until.IsZero() {
			over = time.After(a.Until.Sub(a.At))
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		case <-over:
		}
	}
}

// guarded is a stream whose context ends when its caller may no longer.
type guarded struct {
	grpc.ServerStream
	ctx context.Context
}

// Context ends when the caller may no longer.
func (g guarded) Context() context.Context { return g.ctx }

// RecvMsg receives nothing for whom may no longer.
func (g guarded) RecvMsg(m any) error {
	if err := context.Cause(g.ctx); err != nil {
		return err
	}
	return g.ServerStream.RecvMsg(m)
}

// SendMsg sends nothing to whom may no longer.
func (g guarded) SendMsg(m any) error {
	if err := context.Cause(g.ctx); err != nil {
		return err
	}
	return g.ServerStream.SendMsg(m)
}

var nobody = status.Error(codes.Unauthenticated, "nobody has proved who they are")

func refusal(a enforce.Answer) error {
	if a.Reason == enforce.NotCurrent || a.Reason == enforce.ClockMoved {
		return status.Error(codes.Unavailable, string(a.Reason))
	}
	return status.Error(codes.PermissionDenied, string(a.Reason))
}
