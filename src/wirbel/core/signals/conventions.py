"""Names of attributes: the current OpenTelemetry semantic conventions, and older spellings.

Source: OpenTelemetry semantic conventions 1.3x, the "deprecated" registry pages for HTTP,
database, network, code and deployment attributes.
"""

from __future__ import annotations

CURRENT_NAME: dict[str, str] = {
    "db.name": "db.namespace",
    "db.operation": "db.operation.name",
    "db.sql.table": "db.collection.name",
    "db.statement": "db.query.text",
    "db.system": "db.system.name",
    "db.user": "db.client.user",
    "deployment.environment": "deployment.environment.name",
    "enduser.id": "user.id",
    "code.filepath": "code.file.path",
    "code.function": "code.function.name",
    "code.lineno": "code.line.number",
    "http.client_ip": "client.address",
    "http.host": "server.address",
    "http.method": "http.request.method",
    "http.scheme": "url.scheme",
    "http.status_code": "http.response.status_code",
    "http.target": "url.path",
    "http.url": "url.full",
    "http.user_agent": "user_agent.original",
    "messaging.destination": "messaging.destination.name",
    "net.host.name": "server.address",
    "net.host.port": "server.port",
    "net.peer.ip": "network.peer.address",
    "net.peer.name": "server.address",
    "net.peer.port": "server.port",
    "net.sock.peer.addr": "network.peer.address",
    "net.sock.peer.port": "network.peer.port",
    "peer.service": "service.peer.name",
}
"""Older spelling → current one. Both are read; when a record has both, the current one wins."""

# Values of db.system.name that hold copies of what lives elsewhere (common practice, no source).
CACHE_SYSTEMS = frozenset({"redis", "memcached", "valkey", "hazelcast", "couchbase"})
