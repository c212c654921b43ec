-- Drives the language server as a person does, and writes down what came of each step.
local out = {}
local function note(name, f)
  local ok, got = pcall(f)
  out[name] = ok and (got == nil and "nothing" or got) or ("failed: " .. tostring(got))
end
local dir, kasbah, result = vim.env.ESTATE, vim.env.KASBAH, vim.env.RESULT
vim.o.swapfile, vim.o.hidden = false, true
vim.ui.select = function(items, _, choose)
  for i, item in ipairs(items) do
    local action = item[2] or item
    if vim.g.wanted == nil or action.title:find(vim.g.wanted, 1, true) then
      return choose(item, i)
    end
  end
  error("no action is called " .. vim.g.wanted)
end

local id = vim.lsp.start_client({
  name = "kasbah", cmd = { kasbah, "lsp" }, root_dir = dir, init_options = { env = "trial" },
  capabilities = (function()
    local c = vim.lsp.protocol.make_client_capabilities()
    c.textDocument.completion.completionItem.snippetSupport = true
    return c
  end)(),
})

local function edit(file)
  vim.cmd("edit " .. dir .. "/" .. file)
  vim.lsp.buf_attach_client(0, id)
  vim.bo.omnifunc = "v:lua.vim.lsp.omnifunc"
  assert(vim.wait(10000, function() return vim.lsp.buf_is_attached(0, id) and vim.lsp.get_client_by_id(id).initialized end, 10))
end
local function text() return table.concat(vim.api.nvim_buf_get_lines(0, 0, -1, false), "\n") end
local function set(body) vim.api.nvim_buf_set_lines(0, 0, -1, false, vim.split(body, "\n")) end
-- goes to some characters behind the start of a text
local function go(find, on)
  for n, line in ipairs(vim.api.nvim_buf_get_lines(0, 0, -1, false)) do
    local at = line:find(find, 1, true)
    if at then
      vim.api.nvim_win_set_cursor(0, { n, at - 1 + (on or 0) })
      return
    end
  end
  error("not there: " .. find)
end
local function ask(method, more)
  local params = vim.tbl_extend("force", vim.lsp.util.make_position_params(), more or {})
  local answers = vim.lsp.buf_request_sync(0, method, params, 10000)
  assert(answers, method .. " is not answered")
  local one = answers[id]
  if one.error or one.err then return { error = (one.error or one.err).message } end
  return one.result
end
-- waits until a diagnostic says something; until there is none, for nil
local function diagnosed(words)
  assert(vim.wait(10000, function()
    local list = vim.diagnostic.get(0)
    for _, d in ipairs(list) do
      if words and d.message:find(words, 1, true) then return true end
    end
    return not words and #list == 0
  end, 10), "the diagnostics stay as they are: " .. vim.inspect(vim.diagnostic.get(0)))
  return vim.diagnostic.get(0)
end
local function gone(words)
  assert(vim.wait(10000, function()
    for _, d in ipairs(vim.diagnostic.get(0)) do
      if d.message:find(words, 1, true) then return false end
    end
    return true
  end, 10), vim.inspect(vim.diagnostic.get(0)))
end
-- waits until the text holds something
local function holds(words)
  assert(vim.wait(10000, function() return text():find(words, 1, true) ~= nil end, 10), text())
end
local function labels(list)
  local names = {}
  for _, item in ipairs(list.items) do names[#names + 1] = item.label end
  return names
end
local function item(list, label)
  for _, one in ipairs(list.items) do
    if one.label == label then return one end
  end
  error("not offered: " .. label)
end
local function quickfix(f)
  vim.fn.setqflist({}, "r")
  f()
  assert(vim.wait(10000, function() return #vim.fn.getqflist() > 0 end, 10), "no list came")
  local lines = {}
  for _, one in ipairs(vim.fn.getqflist()) do
    lines[#lines + 1] = vim.fn.fnamemodify(vim.fn.bufname(one.bufnr), ":t") .. ":" .. one.lnum .. ": " .. one.text
  end
  vim.cmd("cclose")
  return lines
end

edit("signal/signal.star")
local original = text()

note("diagnostics", function()
  set(original .. '\nmedina.machine("lamp", subnet = deck, sise = "tiny", image = "stone-1")')
  local list = {}
  for _, d in ipairs(diagnosed("sise")) do list[#list + 1] = { line = d.lnum, column = d.col, message = d.message } end
  return list
end)
note("nearest name", function()
  go("sise")
  vim.g.wanted = "Write size"
  vim.lsp.buf.code_action()
  holds('"lamp", subnet = deck, size = "tiny", image')
  gone("sise")
  return text():sub(#original + 2)
end)
note("add what is required", function()
  set(original .. '\nmedina.machine("lamp", subnet = deck)')
  diagnosed("image is required")
  go('"lamp"')
  vim.g.wanted = "Add "
  vim.lsp.buf.code_action()
  holds('"lamp", subnet = deck, size')
  return text():sub(#original + 2)
end)
note("completion", function()
  set(original .. '\nmedina.machine("lamp", subnet = deck, size = "")')
  go('size = "")', 8)
  local list = ask("textDocument/completion")
  local one = item(list, "medium")
  vim.lsp.util.apply_text_edits({ one.textEdit }, 0, "utf-16")
  return { labels = labels(list), text = text():sub(#original + 2) }
end)
note("snippet", function()
  set(original .. "\nmedina.que")
  go("medina.que", 10)
  vim.api.nvim_win_set_cursor(0, { vim.api.nvim_buf_line_count(0), 10 })
  vim.cmd("normal! $")
  local params = vim.lsp.util.make_position_params()
  params.position.character = 10
  local one = item(ask("textDocument/completion", params), "queue")
  return { format = one.insertTextFormat, plain = vim.lsp.util.parse_snippet(one.textEdit.newText) }
end)
set(original)
note("hover", function()
  go("size = ", 1)
  return vim.lsp.util.convert_input_to_markdown_lines(ask("textDocument/hover").contents)
end)
note("hover in a window", function()
  go("relay = ", 1)
  vim.lsp.buf.hover()
  local function float()
    for _, w in ipairs(vim.api.nvim_list_wins()) do
      if vim.api.nvim_win_get_config(w).relative ~= "" then return w end
    end
  end
  assert(vim.wait(10000, function() return float() ~= nil end, 10), "no window came")
  local lines = vim.api.nvim_buf_get_lines(vim.api.nvim_win_get_buf(float()), 0, -1, false)
  vim.api.nvim_win_close(float(), true)
  return lines
end)
note("signature", function()
  go("subnet = deck, size", 9)
  local help = ask("textDocument/signatureHelp")
  local s = help.signatures[1]
  local part = s.parameters[help.activeParameter + 1].label
  return { label = s.label, active = s.label:sub(part[1] + 1, part[2]) }
end)
note("definition", function()
  go("owned())", 1)
  vim.lsp.buf.definition()
  assert(vim.wait(10000, function() return vim.fn.expand("%:t") == "coast.star" end, 10), vim.fn.expand("%"))
  local line = vim.api.nvim_get_current_line()
  edit("signal/signal.star")
  return line
end)
note("definition of what is published", function()
  go('"gauges")', 2)
  vim.lsp.buf.definition()
  assert(vim.wait(10000, function() return vim.fn.expand("%:t") == "shore.star" end, 10), vim.fn.expand("%"))
  local line = vim.api.nvim_get_current_line()
  edit("signal/signal.star")
  return line
end)
note("references", function()
  go("deck = ", 1)
  return quickfix(vim.lsp.buf.references)
end)
note("highlight", function()
  go("domain = ", 1)
  return #ask("textDocument/documentHighlight")
end)
note("rename", function()
  go("deck = ", 1)
  vim.lsp.buf.rename("yard")
  holds("yard = medina.subnet")
  local got = text()
  set(original)
  return got
end)
note("rename of a resource", function()
  go('"relay", subnet', 2)
  vim.lsp.buf.rename("beacon")
  holds('"beacon", subnet')
  go('"beacon"')
  local got = vim.api.nvim_get_current_line()
  set(original)
  return got
end)
note("symbols", function() return quickfix(vim.lsp.buf.document_symbol) end)
note("workspace symbols", function() return quickfix(function() vim.lsp.buf.workspace_symbol("gauge") end) end)
note("make an input", function()
  go('"10.30.0.0/26"', 3)
  vim.g.wanted = "Make "
  vim.lsp.buf.code_action()
  holds('input("deck_range')
  diagnosed(nil)
  local got = text()
  set(original)
  return got
end)
note("make a loop", function()
  set(original .. '\nmedina.bucket("ebb", tags = owned())\nmedina.bucket("flow", tags = owned())')
  go('"flow"', 1)
  vim.g.wanted = "Turn 2"
  vim.lsp.buf.code_action()
  holds("for name in")
  diagnosed(nil)
  local got = text():sub(#original + 2)
  set(original)
  return got
end)
note("excuse a rule", function()
  set(original .. '\nmedina.bucket("open", public = True, tags = owned())')
  diagnosed("not public")
  go("public = True", 10)
  vim.g.wanted = "Excuse the rule private-buckets"
  vim.lsp.buf.code_action()
  holds("excuse = ")
  local got = text():sub(#original + 2)
  set(original)
  return got
end)
note("take over", function()
  go('medina.machine("relay"', 17)
  vim.g.wanted = "Take over"
  vim.lsp.buf.code_action()
  assert(vim.wait(10000, function() return text() ~= original end, 10), "nothing changed")
  go("relay = ")
  local got = vim.api.nvim_get_current_line()
  set(original)
  return got
end)
note("hover on drift", function()
  go("relay = ", 1)
  return vim.lsp.util.convert_input_to_markdown_lines(ask("textDocument/hover").contents)
end)
note("lens", function()
  vim.lsp.codelens.refresh()
  assert(vim.wait(10000, function() return #vim.lsp.codelens.get(0) > 0 end, 10), "no lens came")
  local list = {}
  for _, l in ipairs(vim.lsp.codelens.get(0)) do list[#list + 1] = l.range.start.line .. ": " .. l.command.title end
  return list
end)
note("hints", function()
  local list = {}
  local all = { start = { line = 0, character = 0 }, ["end"] = { line = 1000, character = 0 } }
  for _, h in ipairs(ask("textDocument/inlayHint", { range = all })) do list[#list + 1] = h.position.line .. " " .. h.label end
  return list
end)
note("formatting", function()
  set(original .. '\nmedina.bucket( "ebb",tags=owned() )')
  vim.lsp.buf.formatting_sync(nil, 10000)
  local got = text():sub(#original + 2)
  set(original)
  return got
end)
note("tokens", function() return #ask("textDocument/semanticTokens/full").data / 5 end)
note("folding", function() return ask("textDocument/foldingRange") end)
note("links", function()
  local list = {}
  for _, l in ipairs(ask("textDocument/documentLink")) do list[#list + 1] = vim.fn.fnamemodify(vim.uri_to_fname(l.target), ":t") end
  return list
end)
note("calls", function()
  go("lookout(", 2)
  return quickfix(vim.lsp.buf.incoming_calls)
end)
edit("kasbah.toml")
local toml = text()
note("from kasbah.toml", function()
  go("lights = ", 1)
  vim.lsp.buf.definition()
  assert(vim.wait(10000, function() return vim.fn.expand("%:e") == "star" end, 10), vim.fn.expand("%"))
  local line = vim.api.nvim_get_current_line()
  edit("kasbah.toml")
  return line
end)
note("keys of kasbah.toml", function()
  set(toml .. "\n[watch]\n")
  vim.api.nvim_win_set_cursor(0, { vim.api.nvim_buf_line_count(0), 0 })
  local got = labels(ask("textDocument/completion"))
  set(toml)
  return got
end)

-- what is typed by hand is taken once this script has ended
edit("signal/signal.star")
set(original .. '\nmedina.subnet("yard", network = ma)')
go("network = ma)", 12)
local function keys(list) vim.api.nvim_feedkeys(vim.api.nvim_replace_termcodes(list, true, true, true), "t", false) end
keys("i<C-x><C-o>")
vim.defer_fn(function()
  keys("<Esc>")
  vim.defer_fn(function()
    note("completion as one types", function() return text():sub(#original + 2) end)
    note("end", function()
      vim.lsp.stop_client(id)
      return vim.wait(10000, function() return vim.lsp.client_is_stopped(id) end, 10)
    end)
    local f = assert(io.open(result, "w"))
    f:write(vim.json.encode(out))
    f:close()
    vim.cmd("qall!")
  end, 300)
end, 2000)
