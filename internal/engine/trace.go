package engine

import (
	"context"
	"errors"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/trace"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/engine/shared"
)

// traced begins the span of a run, when traces are wanted (OpenTelemetry). What it gives ends it.
func (x *execution) traced(ctx context.Context) (context.Context, func(error)) {
	r := x.run
	ctx, span := x.engine.tracer.Start(ctx, "run "+r.Flow, trace.WithAttributes(
		attribute.String("hollowreed.run", r.ID.String()), attribute.String("hollowreed.flow", r.Flow), attribute.Int("hollowreed.release", r.Release),
		attribute.String("hollowreed.reference", r.Reference), attribute.Int("hollowreed.attempt", r.Attempt),
	))
	return ctx, func(err error) { endSpan(span, err) }
}

func endSpan(span trace.Span, err error) {
	var waiting *running.Waiting
	if err != nil && !errors.As(err, &waiting) {
		span.SetStatus(codes.Error, shared.PlainError(err))
	}
	span.End()
}

// tracing tells the spans of steps; nil where nobody wants them.
func (x *execution) tracing() running.Tracer {
	if !x.engine.opt.Traces {
		return nil
	}
	return spans{x.engine.tracer}
}

// spans are those of the steps of a run.
type spans struct{ tracer trace.Tracer }

// Begin begins the span of a step.
func (s spans) Begin(ctx context.Context, ps *running.PlannedStep, items int) (context.Context, func(error)) {
	ctx, span := s.tracer.Start(ctx, ps.Step.Kind+" "+ps.Step.Name, trace.WithAttributes(attribute.String("hollowreed.step", ps.Step.ID), attribute.Int("hollowreed.items", items)))
	return ctx, func(err error) { endSpan(span, err) }
}
