// A stream through the relay, read with fetch alone: node stream.mjs LABEL
const label = process.argv[2] ?? "almanac";

const answer = await fetch(`${process.env.RELAY}/chat/completions`, {
  method: "POST",
  headers: { "content-type": "application/json", authorization: `Bearer ${process.env.AGOUTI_TOKEN ?? "none"}` },
  body: JSON.stringify({ model: label, stream: true, messages: [{ role: "user", content: "When do peas go in?" }] }),
});
if (!answer.ok) {
  console.error(answer.status, (await answer.json()).error.message);
  process.exit(1);
}
let rest = "";
for await (const piece of answer.body.pipeThrough(new TextDecoderStream())) {
  const events = (rest + piece).split("\n\n");
  rest = events.pop();
  for (const event of events) {
    const data = event.replace(/^data: /, "");
    if (data === "[DONE]") continue;
    process.stdout.write(JSON.parse(data).choices[0]?.delta.content ?? "");
  }
}
console.log();
