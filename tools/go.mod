module kamerad.example/tools

go 1.26.0

tool (
	github.com/gordonklaus/ineffassign
	github.com/kisielk/errcheck
	github.com/mgechev/revive
	honnef.co/go/tools/cmd/staticcheck
	mvdan.cc/gofumpt
	mvdan.cc/unparam
)

require (
	codeberg.org/chavacava/garif v0.2.0 // indirect
	github.com/BurntSushi/toml v1.5.0 // indirect
	github.com/fatih/color v1.18.0 // indirect
	github.com/fatih/structtag v1.2.0 // indirect
	github.com/gordonklaus/ineffassign v0.2.0 // indirect
	github.com/hashicorp/go-version v1.7.0 // indirect
	github.com/kisielk/errcheck v1.30.0 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.20 // indirect
	github.com/mgechev/dots v1.0.0 // indirect
	github.com/mgechev/revive v1.13.0 // indirect
	github.com/spf13/afero v1.15.0 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.41.0 // indirect
	golang.org/x/sync v0.23.0 // indirect
	golang.org/x/sys v0.48.0 // indirect
	golang.org/x/text v0.30.0 // indirect
	golang.org/x/tools v0.51.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	mvdan.cc/gofumpt v0.12.0 // indirect
	mvdan.cc/unparam v0.0.0-20260823230713-2fa3d841b0c8 // indirect
)
