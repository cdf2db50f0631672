#!/usr/bin/env python3
"""Answers every request with the name of its node."""
import http.server
import os


class Handler(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        text = f"{os.environ['NODE']} answers\n".encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(text)))
        self.end_headers()
        self.wfile.write(text)


http.server.ThreadingHTTPServer(("", 8000), Handler).serve_forever()
