package connection

import (
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// fileWrite is what a file is written with.
var fileWrite = fixed("file-write", "A file to write",
	needed("name", value.Text, "its name; folders with / between, below the connection's folder"),
	field("text", value.Text, "what is to be in it, as text"), field("content", value.Binary, "what is to be in it, as bytes"))

// fileEntry is a file as it is listed.
var fileEntry = fixed("file", "A file",
	needed("name", value.Text, ""), needed("size", value.Integer, "bytes"), needed("changed", value.Timestamp, ""))

// fileContent is a file with what is in it.
var fileContent = fixed("file-content", "A file with its content",
	needed("name", value.Text, ""), needed("size", value.Integer, "bytes"), field("text", value.Text, "where it is UTF-8"), needed("content", value.Binary, ""))

var fileName = fixed("file-name", "A file's name", needed("name", value.Text, ""))

var fileAsked = fixed("file-mask", "Which files", field("mask", value.Text, "as *.csv; all where it is not there"))

// fileDone is what a writing operation did.
var fileDone = fixed("file-done", "A file that was written", needed("name", value.Text, "as it was written"), needed("size", value.Integer, "bytes as they stand there"))

var fileVerbs = []OperationKind{
	{Name: "list", About: "The files of the folder, by name", Reads: true, Request: fileAsked, Response: fileEntry},
	{Name: "read", About: "One file as a whole", Request: fileName, Response: fileContent},
	{Name: "write", About: "Write a file: beside its name first, then renamed, so that nobody sees half of it", Effect: true, Request: fileWrite, Response: fileDone, Settings: writing},
	{Name: "delete", About: "Remove a file", Effect: true, Request: fileName, NoResponse: true},
}

// WriteFile is the operation by which steps write files, into a folder of any kind.
var WriteFile = &fileVerbs[2]

var writing = setting.List{
	{Name: "if exists", Older: []string{"there"}, Was: map[string]string{"replace": "overwrite", "refuse": "fail"}, Label: "If the file exists", Type: setting.Choice, Choices: []string{"overwrite", "fail", "append"}, Default: "overwrite"},
	{Name: "compress", Label: "Compress", Type: setting.Choice, Choices: []string{"no", "gzip", "zip"}, Default: "no", Help: "The ending .gz or .zip is added to the name"},
}

// taking are the settings of a folder whose new files start flows.
var taking = setting.List{
	{Name: "after", Label: "A file that was picked up", Type: setting.Choice, Choices: []string{"move", "delete", "leave"}, Default: "move", Help: "It is moved away, deleted once its run has ended well, or left and remembered"},
	{Name: "done", Label: "Picked-up files go to", Type: setting.Text, Required: true, When: "after=move", Help: "A folder on the same disk"},
	{Name: "failed", Rare: true, Label: "Files of failed runs go to", Type: setting.Text, Help: "A folder; where none is named they stay where the others go"},
	{Name: "order", Rare: true, Label: "Order", Type: setting.Choice, Choices: []string{"name", "oldest first"}, Default: "name"},
}

// fetching are the settings of a folder on another machine whose new files start flows: they are copied into their runs.
var fetching = setting.List{
	{Name: "after", Label: "A file that was fetched", Type: setting.Choice, Choices: []string{"move", "delete", "leave"}, Default: "move", Help: "It is kept with its run; there it is moved away, deleted, or left and remembered"},
	{Name: "done", Label: "Fetched files go to", Type: setting.Text, Required: true, When: "after=move", Help: "A folder there, beside the watched one"},
	{Name: "order", Label: "Order", Type: setting.Choice, Choices: []string{"name", "oldest first"}, Default: "name", Rare: true},
}

var fileKind = &Kind{
	Name: "file", Title: "Files", Watches: true, OperationKinds: fileVerbs,
	About: "Reads and writes files in a folder of this machine, and starts flows with new ones.",
	Needs: "The folder; it must be below one of the roots that are allowed.",
	Settings: append(setting.List{
		{Name: "folder", Label: "Folder", Type: setting.Text, Required: true, Help: "An absolute path; nothing outside of it is ever read or written"},
	}, append(taking, largest)...),
}

var sftpKind = &Kind{
	Name: "sftp", Title: "SFTP", Watches: true, OperationKinds: fileVerbs,
	About: "Reads and writes files on another machine over SSH, and starts flows with new ones.",
	Needs: "Host, user, a password or a private key, and the host's key.",
	Settings: append(setting.List{
		{Name: "host", Label: "Host", Type: setting.Text, Required: true},
		{Name: "port", Label: "Port", Type: setting.Number, Default: "22", Least: 1, Greatest: 65535},
		{Name: "user", Label: "User", Type: setting.Text, Required: true},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password", Help: "Either this or a private key"},
		{Name: "key", Label: "Private key", Type: setting.Secret, Of: "key pair", Help: "In OpenSSH's or PEM form"},
		{Name: "host key", Label: "The host's key", Type: setting.Lines, Help: "As in known_hosts, or type and key. Test without one shows the key that the host gives: compare its print with what its owner says, then keep it here"},
		{Name: "folder", Label: "Folder", Type: setting.Text, Default: ".", Help: "On the host; names are below it"},
	}, append(fetching, waits, largest)...),
}
