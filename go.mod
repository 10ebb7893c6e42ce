module kanban

go 1.26.0

// Some npm packages bring Go files of their own.
ignore ./console/node_modules

require (
	cel.dev/cel-go v0.33.2
	codeberg.org/go-pdf/fpdf v0.12.0
	github.com/alexedwards/argon2id v1.0.0
	github.com/alexedwards/scs/v2 v2.9.0
	github.com/cespare/xxhash/v2 v2.3.0
	github.com/chromedp/cdproto v0.159.0
	github.com/chromedp/chromedp v0.23.0
	github.com/cloudevents/sdk-go/v2 v2.16.2
	github.com/coreos/go-oidc/v3 v3.21.0
	github.com/danielgtaylor/huma/v2 v2.37.2
	github.com/elimity-com/scim v0.0.0-20260728105928-2641426a1539
	github.com/elnormous/contenttype v1.0.4
	github.com/emersion/go-smtp v0.25.1
	github.com/go-chi/chi/v5 v5.5.0
	github.com/go-chi/httprate v0.16.1
	github.com/go-jose/go-jose/v4 v4.1.9
	github.com/go-json-experiment/json v1.27.2
	github.com/go-oauth2/oauth2/v4 v4.5.4
	github.com/go-text/typesetting v0.3.5
	github.com/google/uuid v1.6.0
	github.com/gowebpki/jcs v1.0.2
	github.com/hashicorp/go-cleanhttp v0.5.2
	github.com/hashicorp/go-retryablehttp v0.7.8
	github.com/jackc/pgx/v5 v5.12.0
	github.com/jackc/puddle/v2 v2.2.3
	github.com/jedib0t/go-pretty/v6 v6.9.1
	github.com/lestrrat-go/jwx/v3 v3.3.0
	github.com/makiuchi-d/gozxing v0.1.1
	github.com/mr-tron/base58 v1.3.0
	github.com/piprate/json-gold v0.9.1
	github.com/pquerna/otp v1.5.0
	github.com/pressly/goose/v3 v3.29.0
	github.com/prometheus/client_golang v1.25.0
	github.com/prometheus/procfs v0.22.0
	github.com/riverqueue/river v0.51.1
	github.com/riverqueue/river/riverdriver/riverpgxv5 v0.51.1
	github.com/riverqueue/river/rivertype v0.51.1
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	github.com/schollz/progressbar/v3 v3.19.1
	github.com/scim2/filter-parser/v2 v2.3.1
	github.com/standard-webhooks/standard-webhooks/libraries v0.0.1
	github.com/stretchr/testify v1.12.1
	github.com/tink-crypto/tink-go/v2 v2.9.0
	github.com/urfave/cli/v3 v3.14.0
	github.com/wneessen/go-mail v0.8.1
	github.com/xuri/excelize/v2 v2.11.1
	github.com/zitadel/oidc/v3 v3.52.0
	go.uber.org/goleak v1.3.0
	go.yaml.in/yaml/v3 v3.0.5
	golang.org/x/image v0.48.0
	golang.org/x/net v0.62.0
	golang.org/x/oauth2 v0.38.0
	golang.org/x/sync v0.25.0
	golang.org/x/term v0.47.0
	golang.org/x/text v0.44.0
	golang.org/x/time v0.16.0
	gonum.org/v1/plot v0.17.0
	gorm.io/driver/postgres v1.6.3
	gorm.io/gorm v1.31.2
	pgregory.net/rapid v1.3.0
	rsc.io/qr v0.2.0
)

require (
	cel.dev/expr v0.25.1 // indirect
	codeberg.org/go-fonts/liberation v0.5.0 // indirect
	codeberg.org/go-latex/latex v0.2.0 // indirect
	git.sr.ht/~sbinet/gg v0.7.0 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/ajstarks/svgo v0.0.0-20211024235047-1546f124cd8b // indirect
	github.com/antlr4-go/antlr/v4 v4.13.1 // indirect
	github.com/beorn7/perks v1.0.1 // indirect
	github.com/bmatcuk/doublestar/v4 v4.10.4 // indirect
	github.com/boombuler/barcode v1.1.0 // indirect
	github.com/cayleygraph/quad v1.3.0 // indirect
	github.com/clipperhouse/uax29/v2 v2.7.0 // indirect
	github.com/decred/dcrd/dcrec/secp256k1/v4 v4.4.1 // indirect
	github.com/emersion/go-sasl v0.0.0-20241020182733-b788ff22d5a6 // indirect
	github.com/go-logr/logr v1.4.4 // indirect
	github.com/go-logr/stdr v1.2.2 // indirect
	github.com/goccy/go-json v0.10.6 // indirect
	github.com/golang-jwt/jwt/v5 v5.3.1 // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	github.com/gorilla/securecookie v1.1.2 // indirect
	github.com/jackc/pgpassfile v1.0.0 // indirect
	github.com/jackc/pgservicefile v0.0.0-20240606120523-5a60cdf6a761 // indirect
	github.com/jinzhu/inflection v1.0.0 // indirect
	github.com/jinzhu/now v1.1.5 // indirect
	github.com/json-iterator/go v1.1.12 // indirect
	github.com/klauspost/cpuid/v2 v2.3.0 // indirect
	github.com/lestrrat-go/blackmagic v1.0.4 // indirect
	github.com/lestrrat-go/dsig v1.4.0 // indirect
	github.com/lestrrat-go/dsig-secp256k1 v1.0.0 // indirect
	github.com/lestrrat-go/httpcc v1.0.1 // indirect
	github.com/lestrrat-go/httprc/v3 v3.0.6 // indirect
	github.com/lestrrat-go/option/v2 v2.0.0 // indirect
	github.com/mattn/go-runewidth v0.0.20 // indirect
	github.com/mfridman/interpolate v0.0.2 // indirect
	github.com/mitchellh/colorstring v0.0.0-20190213212951-d06e56a500db // indirect
	github.com/modern-go/concurrent v0.0.0-20180306012644-bacd9c7ef1dd // indirect
	github.com/modern-go/reflect2 v1.0.2 // indirect
	github.com/muhlemmer/gu v0.3.1 // indirect
	github.com/muhlemmer/httpforwarded v0.1.0 // indirect
	github.com/munnerz/goautoneg v0.0.0-20191010083416-a7dc8b61c822 // indirect
	github.com/pquerna/cachecontrol v0.2.0 // indirect
	github.com/prometheus/client_model v0.6.3 // indirect
	github.com/prometheus/common v0.72.0 // indirect
	github.com/q-uint/parser v0.3.1 // indirect
	github.com/q-uint/xsd-datetime v1.0.0 // indirect
	github.com/richardlehane/mscfb v1.0.9 // indirect
	github.com/richardlehane/msoleps v1.0.6 // indirect
	github.com/riverqueue/river/riverdriver v0.51.1 // indirect
	github.com/riverqueue/river/rivershared v0.51.1 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/rs/cors v1.11.1 // indirect
	github.com/segmentio/asm v1.2.1 // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	github.com/tidwall/gjson v1.20.0 // indirect
	github.com/tidwall/match v1.2.0 // indirect
	github.com/tidwall/pretty v1.2.1 // indirect
	github.com/tidwall/sjson v1.2.5 // indirect
	github.com/tiendc/go-deepcopy v1.7.2 // indirect
	github.com/valyala/fastjson v1.6.10 // indirect
	github.com/xuri/efp v0.0.3-0.20260924042702-217b81952dec // indirect
	github.com/xuri/nfp v0.0.2-0.20250530014748-2ddeb826f9a9 // indirect
	github.com/zeebo/xxh3 v1.0.2 // indirect
	github.com/zitadel/schema v1.3.2 // indirect
	go.opentelemetry.io/auto/sdk v1.2.1 // indirect
	go.opentelemetry.io/otel v1.47.0 // indirect
	go.opentelemetry.io/otel/log v1.47.0 // indirect
	go.opentelemetry.io/otel/metric v1.47.0 // indirect
	go.opentelemetry.io/otel/trace v1.47.0 // indirect
	go.uber.org/multierr v1.11.0 // indirect
	go.uber.org/zap v1.27.0 // indirect
	golang.org/x/crypto v0.58.0 // indirect
	golang.org/x/exp v0.0.0-20261011100332-faecfb24eb49 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sys v0.50.0 // indirect
	golang.org/x/telemetry v0.0.0-20261010193011-f71dc92da45e // indirect
	golang.org/x/tools v0.52.0 // indirect
	golang.org/x/vuln v1.9.0 // indirect
	golang.org/x/xerrors v0.0.0-20231012003039-104605ab7028 // indirect
	google.golang.org/genproto/googleapis/api v0.0.0-20261005182115-fad411399dd8 // indirect
	google.golang.org/genproto/googleapis/rpc v0.0.0-20261005182115-fad411399dd8 // indirect
	google.golang.org/protobuf v1.36.12 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	mvdan.cc/gofumpt v0.12.0 // indirect
)

tool (
	golang.org/x/vuln/cmd/govulncheck
	honnef.co/go/tools/cmd/staticcheck
	mvdan.cc/gofumpt
)
