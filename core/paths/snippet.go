package paths

import (
	"fmt"
	"net/url"
	"strings"

	"innergate/core/config"
)

// Snippet is what an nginx in front of the application needs, where it passes requests on itself and asks the gate
// about each.
func Snippet(o *config.GuardedApplication, headers []string, secret string) string {
	u, err := url.Parse(o.PublicURL)
	if err != nil || len(o.Upstreams) == 0 {
		return ""
	}
	switch o.Pass {
	case config.PassBasic:
		headers = []string{"Authorization"}
	case config.PassNothing:
		headers = nil
	}
	var set strings.Builder
	for _, h := range headers {
		name := strings.ReplaceAll(strings.ToLower(h), "-", "_")
		fmt.Fprintf(
			&set,
			"        auth_request_set $gate_%[1]s $upstream_http_%[1]s;\n        proxy_set_header %[2]s $gate_%[1]s;\n",
			name, h,
		)
	}
	return fmt.Sprintf(`# The guard listens at 127.0.0.1:8421 here, and this nginx is among the gate's trusted proxies.
# Nobody else may read this file: whoever knows the secret in it is told what the application is to get, passwords among it.
server {
    server_name %[1]s;
    merge_slashes off;
    # Add your listen and ssl_certificate lines.

    location / {
        auth_request /.gate/check;
        error_page 401 = @gate;
        auth_request_set $gate_cookies $upstream_http_x_gate_cookies;
        proxy_set_header Cookie $gate_cookies;
%[2]s        proxy_pass %[3]s;
    }
    location = /.gate/check {
        internal;
        proxy_pass http://127.0.0.1:8421;
        proxy_pass_request_body off;
        proxy_set_header Content-Length "";
        proxy_set_header Host $http_host;
        proxy_set_header X-Original-URI $request_uri;
        proxy_set_header X-Original-Method $request_method;
        proxy_set_header X-Gate-Proxy-Secret "%[4]s";
        proxy_set_header X-Forwarded-Proto $scheme;
        proxy_set_header X-Forwarded-For $remote_addr;
    }
    location /.gate/ {
        proxy_pass http://127.0.0.1:8421;
        proxy_set_header Host $http_host;
        proxy_set_header X-Original-URI "";
        proxy_set_header X-Gate-Proxy-Secret "";
        proxy_set_header X-Forwarded-Proto $scheme;
        proxy_set_header X-Forwarded-For $remote_addr;
    }
    location @gate {
        return 303 /.gate/enter?to=$request_uri;
    }
}
`, u.Hostname(), set.String(), o.Upstreams[0], secret)
}
