// The grammar is held against the demo's own files: what each kind of word in them is taken for.
const assert = require("node:assert");
const fs = require("node:fs");
const path = require("node:path");
const test = require("node:test");
const oniguruma = require("vscode-oniguruma");
const textmate = require("vscode-textmate");

const here = path.join(__dirname, "..");
const demo = path.join(here, "..", "..", "demo", "lantern-coast");

async function grammar(scope) {
  const wasm = fs.readFileSync(path.join(here, "node_modules", "vscode-oniguruma", "release", "onig.wasm"));
  await oniguruma.loadWASM(wasm.buffer);
  const files = { "source.kasbah": "kasbah.tmLanguage.json", "source.kasbah-toml": "kasbah-toml.tmLanguage.json" };
  const registry = new textmate.Registry({
    onigLib: Promise.resolve({
      createOnigScanner: (patterns) => new oniguruma.OnigScanner(patterns),
      createOnigString: (text) => new oniguruma.OnigString(text),
    }),
    loadGrammar: async (name) => {
      const file = path.join(here, "syntaxes", files[name]);
      return textmate.parseRawGrammar(fs.readFileSync(file, "utf8"), file);
    },
  });
  return registry.loadGrammar(scope);
}

// words are the words of a text with what the grammar takes each for.
function words(g, text) {
  const out = [];
  let state = textmate.INITIAL;
  for (const line of text.split("\n")) {
    const r = g.tokenizeLine(line, state);
    state = r.ruleStack;
    for (const t of r.tokens) out.push([line.slice(t.startIndex, t.endIndex).trim(), t.scopes[t.scopes.length - 1], line]);
  }
  return out;
}

function all(dir) {
  return fs.readdirSync(dir, { withFileTypes: true, recursive: true }).filter((f) => f.isFile()).map((f) => path.join(f.parentPath ?? f.path, f.name));
}

test("declarations", async () => {
  const g = await grammar("source.kasbah");
  const files = all(demo).filter((f) => f.endsWith(".star"));
  assert.ok(files.length >= 8);
  const seen = new Map();
  for (const file of files) {
    const list = words(g, fs.readFileSync(file, "utf8"));
    for (const [word, scope, line] of list) {
      seen.set(scope, (seen.get(scope) ?? 0) + 1);
      if (line.trim().startsWith("#")) assert.match(scope, /^comment/, line);
      if (word === "def") assert.equal(scope, "storage.type.function.kasbah");
      if (word === "True" || word === "False") assert.match(scope, /^constant\.language|^string|^comment/, line);
    }
    // a text ends where it ends: the line behind the last is plain again
    const last = words(g, fs.readFileSync(file, "utf8") + "\nlast = 1\n").filter(([w]) => w === "last");
    assert.equal(last[0][1], "variable.parameter.kasbah", file);
  }
  for (const scope of ["entity.name.type.kasbah", "entity.name.namespace.kasbah", "support.function.kasbah", "variable.parameter.kasbah",
    "string.quoted.double.kasbah", "constant.numeric.kasbah", "keyword.control.kasbah", "constant.other.placeholder.kasbah"]) {
    assert.ok(seen.get(scope) > 0, scope);
  }
  const one = words(g, 'relay = medina.machine("relay", size = "tiny")');
  const of = (word) => one.find(([w]) => w === word)[1];
  assert.equal(of("medina"), "entity.name.namespace.kasbah");
  assert.equal(of("machine"), "entity.name.type.kasbah");
  assert.equal(of("size"), "variable.parameter.kasbah");
});

test("kasbah.toml", async () => {
  const g = await grammar("source.kasbah-toml");
  const list = words(g, fs.readFileSync(path.join(demo, "kasbah.toml"), "utf8"));
  const of = (word) => list.find(([w]) => w === word)?.[1];
  assert.equal(of("env.trial.inputs"), "entity.name.section.kasbah-toml");
  assert.equal(of("lights"), "support.type.property-name.kasbah-toml");
  assert.equal(of("0.05"), "constant.numeric.kasbah-toml");
});

test("the server answers the client's first words", async () => {
  const { spawn } = require("node:child_process");
  const program = process.env.KASBAH;
  assert.ok(program, "KASBAH names the program");
  const server = spawn(program, ["lsp"], { cwd: demo });
  const manifest = JSON.parse(fs.readFileSync(path.join(here, "package.json"), "utf8"));
  const chosen = {};
  for (const name of Object.keys(manifest.contributes.configuration.properties)) chosen[name.split(".")[1]] = true;
  assert.deepEqual(Object.keys(chosen).sort(), ["codeLens", "env", "inlayHints", "path"]);
  const send = (m) => {
    const body = JSON.stringify({ jsonrpc: "2.0", ...m });
    server.stdin.write(`Content-Length: ${Buffer.byteLength(body)}\r\n\r\n${body}`);
  };
  let out = "";
  server.stdout.on("data", (b) => (out += b));
  send({ id: 1, method: "initialize", params: { processId: null, rootUri: "file://" + demo, capabilities: {}, initializationOptions: { env: "trial" } } });
  send({ id: 2, method: "shutdown" });
  send({ method: "exit" });
  const code = await new Promise((resolve) => server.on("exit", resolve));
  assert.equal(code, 0);
  assert.match(out, /"hoverProvider":true/);
});
