# Makes, of the package's description, that of the package that can be a node: another program, and the engine's libraries.
s/^name: innergate$/name: innergate-nodes/
s|^depends: .*|depends: ["libc6 (>= 2.34)", adduser, ca-certificates, libdqlite0, libraft2, libsqlite3-0]\
provides: [innergate]\
conflicts: [innergate]\
replaces: [innergate]|
s|src: ./bin/package/innergate,|src: ./bin/package/innergate-nodes,|
s|  OpenID Connect: metadata, certificates, mapping, access, traces.|  OpenID Connect: metadata, certificates, mapping, access, traces. This one\
  can be one of some machines that keep the records together.|
