// A round with a tool through the relay, whole or streamed: node tools.mjs LABEL [stream]
const [label = "almanac", way = "whole"] = process.argv.slice(2);
const tools = [{
  type: "function",
  function: {
    name: "days_to_frost",
    description: "Days until the last frost.",
    parameters: { type: "object", properties: { place: { type: "string" } }, required: ["place"] },
  },
}];
const functions = { days_to_frost: ({ place }) => (place === "Marsh Lane" ? 17 : 0) };

async function ask(messages) {
  const answer = await fetch(`${process.env.RELAY}/chat/completions`, {
    method: "POST",
    headers: { "content-type": "application/json", authorization: `Bearer ${process.env.AGOUTI_TOKEN ?? "none"}` },
    body: JSON.stringify({ model: label, messages, tools, stream: way === "stream" }),
  });
  if (!answer.ok) {
    console.error(answer.status, (await answer.json()).error.message);
    process.exit(1);
  }
  return way === "stream" ? joined(await answer.text()) : (await answer.json()).choices[0].message;
}

// What the pieces of a stream amount to; a call comes in pieces as well.
function joined(text) {
  const message = { role: "assistant", content: "" };
  for (const event of text.split("\n\n")) {
    const data = event.replace(/^data: /, "");
    if (!data || data === "[DONE]") continue;
    const delta = JSON.parse(data).choices[0]?.delta ?? {};
    message.content += delta.content ?? "";
    for (const piece of delta.tool_calls ?? []) {
      const calls = (message.tool_calls ??= []);
      const call = (calls[piece.index] ??= { id: piece.id, type: "function", function: { name: "", arguments: "" } });
      call.function.name += piece.function?.name ?? "";
      call.function.arguments += piece.function?.arguments ?? "";
    }
  }
  return message;
}

const messages = [{ role: "user", content: "How many days until the last frost at Marsh Lane?" }];
for (let round = 0; round < 5; round += 1) {
  const message = await ask(messages);
  messages.push(message);
  if (!message.tool_calls?.length) break;
  for (const call of message.tool_calls) {
    const result = functions[call.function.name](JSON.parse(call.function.arguments || "{}"));
    messages.push({ role: "tool", tool_call_id: call.id, content: String(result) });
  }
}
console.log(messages.at(-1).content);
