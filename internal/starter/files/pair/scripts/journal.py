#!/usr/bin/env python3
"""A journal of lines: a primary serves it, a standby keeps a copy."""
import argparse
import http.server
import time
import urllib.request

FILE, PORT = "/var/lib/journal", 7100


def read_key(path):
    while True:
        try:
            with open(path) as f:
                key = f.read().strip()
            if key:
                return key
        except FileNotFoundError:
            pass
        time.sleep(0.1)


def serve(key):
    open(FILE, "a").close()

    class Handler(http.server.BaseHTTPRequestHandler):
        def allowed(self):
            if self.headers.get("Journal-Key") == key:
                return True
            self.send_error(403, "the key is missing or wrong")
            return False

        def do_GET(self):
            if self.allowed():
                with open(FILE, "rb") as f:
                    text = f.read()
                self.send_response(200)
                self.send_header("Content-Length", str(len(text)))
                self.end_headers()
                self.wfile.write(text)

        def do_POST(self):
            if self.allowed():
                line = self.rfile.read(int(self.headers["Content-Length"]))
                with open(FILE, "ab") as f:
                    f.write(line + b"\n")
                self.send_response(204)
                self.end_headers()

    http.server.ThreadingHTTPServer(("", PORT), Handler).serve_forever()


def ask(host, key, line=None):
    request = urllib.request.Request(f"http://{host}:{PORT}/", data=line, headers={"Journal-Key": key})
    with urllib.request.urlopen(request, timeout=5) as answer:
        return answer.read()


def follow(key, host):
    have = None
    while True:
        try:
            text = ask(host, key)
            if text != have:
                with open(FILE, "wb") as f:
                    f.write(text)
                have = text
        except OSError as error:
            print("cannot follow:", error, flush=True)
        time.sleep(0.5)


parser = argparse.ArgumentParser(description=__doc__)
parser.add_argument("what", choices=["serve", "follow", "add"])
parser.add_argument("line", nargs="?", default="")
parser.add_argument("--key", required=True)
parser.add_argument("--from", dest="host", default="localhost")
args = parser.parse_args()
key = read_key(args.key)
if args.what == "serve":
    serve(key)
elif args.what == "follow":
    follow(key, args.host)
else:
    ask(args.host, key, args.line.encode())
