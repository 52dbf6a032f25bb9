"""What newcomers paste beside curl commands: each with the address, the variable or key, and the model in it.

A key that stands there is KEY; a variable is its name with a dollar before it.
"""

ROOT = "https://api.northbank.example/v1"
CHAT = f"{ROOT}/chat/completions"
KEY = "nb-3f9a-marsh-lane-demo-7c41"

# name, text, base address, where the key is, model
SNIPPETS: list[tuple[str, str, str, str, str]] = [
    ("fenced", f"```bash\ncurl {CHAT} -H 'Authorization: Bearer $NB_KEY' -d '{{\"model\": \"quill\"}}'\n```", ROOT, "$NB_KEY", "quill"),
    ("fence with words around", f"Try this:\n\n~~~\ncurl {CHAT} -H \"Authorization: Bearer $NB_KEY\" --json '{{\"model\": \"quill\"}}'\n~~~\nGood luck!", ROOT, "$NB_KEY", "quill"),
    ("inline code", f"`curl {CHAT} -H 'Authorization: Bearer {KEY}' -d '{{\"model\": \"quill\"}}'`", ROOT, KEY, "quill"),
    ("kept in a variable", f"RESP=$(curl -s {CHAT} -H \"Authorization: Bearer $NB_KEY\" -d '{{\"model\": \"quill\"}}')", ROOT, "$NB_KEY", "quill"),
    ("typographic quotes", f"curl {CHAT} -H \u201cAuthorization: Bearer {KEY}\u201d -d \u2018{{\u201cmodel\u201d: \u201cquill\u201d}}\u2019", ROOT, KEY, "quill"),
    ("no-break spaces", f"curl\u00a0{CHAT}\u00a0-H\u00a0'Authorization: Bearer {KEY}'\u00a0-d\u00a0'{{\"model\": \"quill\"}}'", ROOT, KEY, "quill"),
    ("zero-width letters", f"\u200bcurl {CHAT}\u200b -H 'Authorization: Bearer {KEY}' -d '{{\"model\": \"quill\"}}'", ROOT, KEY, "quill"),
    ("two commands", f"curl {CHAT} -H 'Authorization: Bearer {KEY}' -d '{{\"model\": \"quill\"}}'\ncurl https://other.example/v1/models", ROOT, KEY, "quill"),
    ("wget", f"wget -qO- --header='Authorization: Bearer {KEY}' --header='Content-Type: application/json' --post-data='{{\"model\": \"quill\"}}' {CHAT}", ROOT, KEY, "quill"),
    ("wget, address first", f"wget {CHAT} --header \"Authorization: Bearer $NB_KEY\" --post-data '{{\"model\": \"quill\"}}' -O out.json", ROOT, "$NB_KEY", "quill"),
    ("http request", f"POST /v1/chat/completions HTTP/1.1\nHost: api.northbank.example\nAuthorization: Bearer {KEY}\nContent-Type: application/json\n\n{{\"model\": \"quill\", \"messages\": []}}", ROOT, KEY, "quill"),
    ("http request, CRLF", f"POST /v1/chat/completions HTTP/1.1\r\nHost: api.northbank.example\r\nAuthorization: Bearer {KEY}\r\n\r\n{{\"model\": \"quill\"}}\r\n", ROOT, KEY, "quill"),
    ("http request of an editor", f"POST {CHAT}\nAuthorization: Bearer {{{{NB_KEY}}}}\n\n{{\"model\": \"quill\"}}", ROOT, "$NB_KEY", "quill"),
    ("http request, other key header", f"POST {ROOT}/messages HTTP/1.1\nx-api-key: {KEY}\n\n{{\"model\": \"quill\"}}", ROOT, KEY, "quill"),
    ("http request without empty line", f"POST {CHAT} HTTP/1.1\nAuthorization: Bearer {KEY}\n{{\"model\": \"quill\"}}", ROOT, KEY, "quill"),
    ("env lines", f"NB_BASE_URL={ROOT}\nNB_API_KEY={KEY}\nNB_MODEL=quill", ROOT, KEY, "quill"),
    ("env lines, quoted and exported", f"export NB_URL=\"{ROOT}\"\nexport NB_TOKEN='{KEY}'\nexport NB_MODEL=\"quill\"", ROOT, KEY, "quill"),
    ("env lines with comments", f"# ours\nLLM_ENDPOINT={CHAT}\n\nLLM_KEY={KEY}\nLLM_MODEL=quill\nLLM_TIMEOUT=30", ROOT, KEY, "quill"),
    ("env lines without a model", f"NB_URL={ROOT}\nNB_KEY={KEY}", ROOT, KEY, ""),
    ("one env line", f"NB_URL={ROOT}", ROOT, "", ""),
    ("lines of yaml", f"base_url: {ROOT}\napi_key: {KEY}\nmodel: quill", ROOT, KEY, "quill"),
    ("shell variables of another shell", f"$env:NB_URL = \"{ROOT}\"\n$env:NB_KEY = \"{KEY}\"\n$env:NB_MODEL = \"quill\"", ROOT, KEY, "quill"),
    ("python, all in one", f"import requests\nr = requests.post('{CHAT}', headers={{'Authorization': 'Bearer {KEY}'}}, json={{'model': 'quill', 'messages': []}})", ROOT, KEY, "quill"),
    ("python, f-string", f"import requests\nAPI_KEY = \"{KEY}\"\nurl = \"{CHAT}\"\nheaders = {{\"Authorization\": f\"Bearer {{API_KEY}}\"}}\npayload = {{\"model\": \"quill\"}}\nrequests.post(url, headers=headers, json=payload)", ROOT, KEY, "quill"),
    ("python, environ", f"import os, requests\nrequests.post(\"{CHAT}\", headers={{\"Authorization\": f\"Bearer {{os.environ['NB_KEY']}}\"}}, json={{\"model\": \"quill\"}})", ROOT, "$NB_KEY", "quill"),
    ("python, environ in a name", f"import os\nkey = os.environ[\"NB_KEY\"]\nurl = '{CHAT}'\nheaders = {{'Authorization': 'Bearer ' + key}}\ndata = {{'model': 'quill'}}", ROOT, "$NB_KEY", "quill"),
    ("python, getenv", f"import os\nkey = os.getenv('NB_KEY')\nrequests.post('{CHAT}', headers={{'Authorization': f'Bearer {{key}}'}}, json=dict(model='quill'))", ROOT, "$NB_KEY", "quill"),
    ("python, base and path", f"BASE = \"{ROOT}\"\nMODEL = \"quill\"\nimport requests\nrequests.post(f\"{{BASE}}/chat/completions\", headers={{\"Authorization\": \"Bearer {KEY}\"}}, json={{\"model\": MODEL}})", ROOT, KEY, "quill"),
    ("python, base plus path", f"import requests\nbase = '{ROOT}'\nrequests.post(base + '/chat/completions', headers={{'Authorization': 'Bearer {KEY}'}}, json={{'model': 'quill'}})", ROOT, KEY, "quill"),
    ("python, standard library", f"import json, urllib.request\nreq = urllib.request.Request(\"{CHAT}\", data=json.dumps({{\"model\": \"quill\"}}).encode())\nreq.add_header(\"Authorization\", \"Bearer {KEY}\")\nurllib.request.urlopen(req)", ROOT, KEY, "quill"),
    ("python, other header", f"import requests\nrequests.post('{ROOT}/messages', headers={{'x-api-key': '{KEY}', 'api-version': '2026-01-01'}}, json={{'model': 'quill'}})", ROOT, KEY, "quill"),
    ("python at the prompt", f">>> import requests\n>>> requests.post('{CHAT}',\n...     headers={{'Authorization': 'Bearer {KEY}'}},\n...     json={{'model': 'quill'}})", ROOT, KEY, "quill"),
    ("python, async", f"import asyncio\nasync with session.post(\"{CHAT}\", headers={{\"Authorization\": \"Bearer {KEY}\"}}, json={{\"model\": \"quill\"}}) as r:\n    print(await r.json())", ROOT, KEY, "quill"),
    ("python, constants", f"URL = '{CHAT}'\nTOKEN = '{KEY}'\nNAME = 'quill'\nimport http.client\nheaders = {{'Authorization': 'Bearer %s' % TOKEN}}\nbody = {{'model': NAME}}", ROOT, KEY, "quill"),
    ("python in a fence", f"```python\nimport requests\nrequests.post('{CHAT}', headers={{'Authorization': 'Bearer {KEY}'}}, json={{'model': 'quill'}})\n```", ROOT, KEY, "quill"),
    ("python in a notebook", f"In [1]: import requests\nIn [2]: requests.post('{CHAT}', headers={{'Authorization': 'Bearer {KEY}'}}, json={{'model': 'quill'}})", ROOT, KEY, "quill"),
    ("javascript, fetch", f"const res = await fetch(\"{CHAT}\", {{\n  method: \"POST\",\n  headers: {{ \"Authorization\": \"Bearer {KEY}\", \"Content-Type\": \"application/json\" }},\n  body: JSON.stringify({{ model: \"quill\", messages: [] }})\n}});", ROOT, KEY, "quill"),
    ("javascript, template", f"const key = \"{KEY}\";\nawait fetch(`{CHAT}`, {{ method: 'POST', headers: {{ Authorization: `Bearer ${{key}}` }}, body: JSON.stringify({{ model: 'quill' }}) }});", ROOT, KEY, "quill"),
    ("javascript, environment", f"await fetch('{CHAT}', {{ method: 'POST', headers: {{ 'Authorization': `Bearer ${{process.env.NB_KEY}}` }}, body: JSON.stringify({{ 'model': 'quill' }}) }})", ROOT, "$NB_KEY", "quill"),
    ("javascript, plus", f"const url = '{CHAT}';\nconst opts = {{ headers: {{ 'Authorization': 'Bearer ' + process.env.NB_KEY }}, body: JSON.stringify({{ model: 'quill' }}) }};\nfetch(url, opts)", ROOT, "$NB_KEY", "quill"),
    ("javascript, base", f"const BASE = \"{ROOT}\";\nconst model = \"quill\";\nfetch(`${{BASE}}/chat/completions`, {{ headers: {{ Authorization: \"Bearer {KEY}\" }}, body: JSON.stringify({{ model: model }}) }})", ROOT, KEY, "quill"),
    ("javascript, older", f"var xhr = new XMLHttpRequest();\nxhr.open('POST', '{CHAT}');\nxhr.setRequestHeader('Authorization', 'Bearer {KEY}');\nxhr.send(JSON.stringify({{model: 'quill'}}));", ROOT, KEY, "quill"),
    ("typescript", f"const key: string = \"{KEY}\";\nconst r = await fetch(\"{CHAT}\", {{ headers: {{ Authorization: `Bearer ${{key}}` }}, body: JSON.stringify({{ model: \"quill\" }}) }});", ROOT, KEY, "quill"),
    ("powershell", f"$headers = @{{ \"Authorization\" = \"Bearer {KEY}\" }}\n$body = @{{ model = \"quill\"; messages = @() }} | ConvertTo-Json\nInvoke-RestMethod -Uri \"{CHAT}\" -Method Post -Headers $headers -Body $body", ROOT, KEY, "quill"),
    ("powershell, environment", f"$headers = @{{ Authorization = \"Bearer $env:NB_KEY\" }}\nInvoke-RestMethod -Uri '{CHAT}' -Method Post -Headers $headers -Body (@{{ model = 'quill' }} | ConvertTo-Json)", ROOT, "$NB_KEY", "quill"),
    ("powershell, web request", f"Invoke-WebRequest -Uri \"{CHAT}\" -Method POST -Headers @{{\"x-api-key\"=\"{KEY}\"}} -Body '{{\"model\": \"quill\"}}'", ROOT, KEY, "quill"),
    ("bare address", CHAT, ROOT, "", ""),
    ("address in brackets", f"<{ROOT}>", ROOT, "", ""),
    ("address with a port", "http://localhost:11434/v1", "http://localhost:11434/v1", "", ""),
    ("host and port alone", "localhost:8080", "http://localhost:8080", "", ""),
]  # fmt: skip

# What is not understood: exit 2, and never an entry.
REFUSED: list[tuple[str, str]] = [
    ("a word", "hello"),
    ("a sentence", "Please call the model for me."),
    ("a key", KEY),
    ("a fence of nothing", "```\n\n```"),
    ("an assignment", "RESP=$(date)"),
    ("a variable of another kind", "PATH=/usr/bin:/bin"),
    ("prose about curl", "I use curl a lot"),
    ("code without an address", "import os\nprint(os.environ['KEY'])"),
    ("JSON", '{"model": "quill"}'),
    ("a table", "name | key\n--- | ---\nnb | x"),
    ("a path", "/etc/passwd"),
    ("words in quotes", '"hello there"'),
    ("a word with a remark", "hello # the model"),
    ("a command that goes on", "hello &&"),
]
