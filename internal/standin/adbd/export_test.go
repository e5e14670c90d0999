package adbd

// What the tests, which play the host, say and hear.
const (
	CmdCNXN    = cmdCNXN
	CmdOPEN    = cmdOPEN
	CmdOKAY    = cmdOKAY
	CmdCLSE    = cmdCLSE
	CmdWRTE    = cmdWRTE
	Version    = version
	MaxPayload = maxPayload
	MaxStreams = maxStreams
)
