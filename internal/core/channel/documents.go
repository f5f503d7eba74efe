package channel

import (
	"bytes"
	"encoding/json"
	"net/url"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema/jsonschema"
)

type object = map[string]any

// payload describes the messages of a channel as JSON Schema.
func (c *Channel) payload() any {
	if c.Schema == nil {
		return object{}
	}
	text := jsonschema.Export(c.Schema, false)
	var of object
	if json.Unmarshal(text, &of) != nil {
		return object{}
	}
	if bytes.Contains(text, []byte("#/$defs/")) { // they are of the schema, and not of the document that it stands in
		of["$id"] = "schema:" + c.ID
	}
	return of
}

// media is the media type of the messages.
func (c *Channel) media() string {
	if c.Schema == nil {
		return "application/octet-stream"
	}
	return all.Of(c.Schema).ContentType()
}

// AsyncAPI is a document of version 3.0 that describes channels, at the address of the project's calls.
func AsyncAPI(title, address string, list []*Channel) ([]byte, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, fault.Expect(fault.Setting, "an address", fault.Quote(address))
	}
	channels, operations := object{}, object{}
	for _, c := range list {
		channels[c.ID] = object{
			"title": c.Title, "address": "channels/" + c.ID + "/messages",
			"description": "A " + string(c.Kind) + ", kept for " + c.Settings.Get("retention days") + " days; order: " + string(c.Order),
			"messages":    object{"message": object{"contentType": c.media(), "payload": c.payload(), "headers": object{"type": "object", "properties": object{"Message-Id": object{"type": "string"}, "Message-Key": object{"type": "string"}}}}},
		}
		of := []object{{"$ref": "#/channels/" + c.ID + "/messages/message"}}
		operations["put-"+c.ID] = object{"action": "receive", "channel": object{"$ref": "#/channels/" + c.ID}, "messages": of, "summary": "Programs put messages"}
		operations["take-"+c.ID] = object{"action": "send", "channel": object{"$ref": "#/channels/" + c.ID}, "messages": of, "summary": "Programs take messages"}
	}
	return json.MarshalIndent(object{
		"asyncapi": "3.0.0", "info": object{"title": title, "version": "1.0.0"}, "defaultContentType": "application/json",
		"servers":  object{"calls": object{"host": at.Host, "pathname": at.Path, "protocol": at.Scheme}},
		"channels": channels, "operations": operations,
	}, "", "  ")
}

// OpenAPI is a document of version 3.1 that describes how programs use a channel at an address.
func (c *Channel) OpenAPI(address string) ([]byte, error) {
	text := object{"type": "string"}
	message := object{"type": "object", "required": []string{"place", "id", "put_at"}, "properties": object{
		"place": object{"type": "string", "description": "by which it is acknowledged"}, "id": text, "put_at": object{"type": "string", "format": "date-time"}, "key": text,
		"headers": object{"type": "object", "additionalProperties": text}, "media": text, "body": c.payload(), "text": object{"type": "string", "description": "of a body that is no JSON"},
		"bytes": object{"type": "string", "contentEncoding": "base64", "description": "of one that is no text"}, "attempts": object{"type": "integer"},
	}}
	messages := object{"type": "array", "items": object{"$ref": "#/components/schemas/Message"}}
	problem := object{"description": "a problem (RFC 9457)", "content": object{"application/problem+json": object{"schema": object{"type": "object"}}}}
	response := func(about string, schema object) object {
		return object{"200": object{"description": about, "content": object{"application/json": object{"schema": schema}}}, "default": problem}
	}
	request := func(properties object) object {
		return object{"content": object{"application/json": object{"schema": object{"type": "object", "properties": properties}}}}
	}
	token, places := object{"type": "string", "format": "uuid"}, object{"type": "array", "items": text}
	header := func(name, about string) object {
		return object{"name": name, "in": "header", "schema": text, "description": about}
	}
	paths := object{"/messages": object{
		"post": object{
			"operationId": "put", "summary": "Put a message", "parameters": []object{header("Message-Id", "a repetition with the same id is kept once"), header("Message-Key", "in place of the channel's")},
			"requestBody": object{"required": true, "content": object{c.media(): object{"schema": c.payload()}}},
			"responses":   object{"201": object{"description": "it is kept", "content": object{"application/json": object{"schema": object{"type": "object", "required": []string{"id"}, "properties": object{"id": text, "double": object{"type": "boolean"}}}}}}, "default": problem},
		},
		"get": object{
			"operationId": "look", "summary": "Look at messages without taking any, the newest first",
			"parameters": []object{{"name": "before", "in": "query", "schema": text}, {"name": "most", "in": "query", "schema": object{"type": "integer", "minimum": 1, "maximum": 100, "default": 20}}},
			"responses":  response("the messages", object{"type": "object", "properties": object{"messages": messages}}),
		},
	}, "/stream": object{"get": object{
		"operationId": "stream", "summary": "Messages as they come, as server-sent events, without taking any",
		"responses": object{"200": object{"description": "the stream", "content": object{"text/event-stream": object{"schema": text}}}, "default": problem},
	}}}
	below, parameters := "", []object{}
	if c.Kind == Topic {
		below, parameters = "/subscriptions/{subscription}", []object{{"name": "subscription", "in": "path", "required": true, "schema": text}}
	}
	post := func(name, summary string, body, responses object) {
		paths[below+"/"+name] = object{"post": object{"operationId": name, "summary": summary, "parameters": parameters, "requestBody": body, "responses": responses}}
	}
	integer := func(about string) object { return object{"type": "integer", "description": about} }
	post("take", "Take messages", request(object{"most": integer("messages"), "hold": integer("seconds for which they are yours"), "wait": integer("seconds for the first of them"), "from": object{"type": "string", "enum": []string{"now", "beginning"}}}),
		response("the messages, with the token by which they are acknowledged", object{"type": "object", "required": []string{"token", "messages"}, "properties": object{"token": token, "messages": messages}}))
	post("acknowledge", "Say that messages are dealt with", request(object{"token": token, "messages": places}), response("how many were yours", object{"type": "object", "properties": object{"acknowledged": integer("messages")}}))
	post("return", "Let messages be handed out again", request(object{"token": token, "messages": places, "after": integer("seconds"), "reason": text}), response("how many were yours", object{"type": "object", "properties": object{"returned": integer("messages")}}))
	doc := object{
		"openapi": "3.1.0", "info": object{"title": c.Title, "version": "1.0.0"}, "servers": []object{{"url": address}}, "paths": paths,
		"components": object{"schemas": object{"Message": message}, "securitySchemes": object{"key": object{"type": "apiKey", "in": "header", "name": "Api-Key"}}},
	}
	if c.Settings.Get("callers") == WithKey {
		doc["security"] = []object{{"key": []string{}}}
	}
	return json.MarshalIndent(doc, "", "  ")
}
