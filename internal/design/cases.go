package design

import (
	"context"

	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
)

// AddMappingCase keeps what a mapping makes of the messages in a frame as a case of it.
func (d Designer) AddMappingCase(ctx context.Context, title, mappingID string, plan *mapping.Plan, fr *mapping.Frame) error {
	text, err := project.NewCase(title, mappingID, plan, fr)
	if err != nil {
		return err
	}
	_, err = d.AddNumbered(ctx, project.Path(project.Cases, mappingID+"-"+ID(title)), string(text))
	return err
}

// AddFlowCase keeps what a flow of a project comes to with a message as a case of it.
func (d Designer) AddFlowCase(ctx context.Context, p *project.Project, flowID, title string, run project.Run) error {
	text, f := p.NewFlowCase(title, flowID, run)
	if f != nil {
		return f
	}
	_, err := d.AddNumbered(ctx, project.Path(project.Cases, ID(flowID+" "+title)), string(text))
	return err
}

// AddAPICase keeps a call of an API with its response as a case.
func (d Designer) AddAPICase(ctx context.Context, title string, call project.APICall) error {
	_, err := d.AddNumbered(ctx, project.Path(project.Cases, call.API+"-"+ID(title)), string(project.NewAPICase(title, call)))
	return err
}
