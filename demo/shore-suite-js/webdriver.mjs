// A W3C WebDriver client in a page: fetch and nothing else.

const url = process.env.TESSELLANT_WEBDRIVER_URL ?? "http://127.0.0.1:7480/webdriver";
const key = process.env.TESSELLANT_KEY; // only from outside: a package needs none
const ELEMENT = "element-6066-11e4-a52e-4f735466cecf";

async function command(method, path, body) {
  const headers = { "Content-Type": "application/json" };
  if (key) headers.Authorization = "Bearer " + key;
  const answer = await fetch(url + path, { method, headers, body: method === "POST" ? JSON.stringify(body ?? {}) : undefined });
  const { value } = await answer.json();
  if (!answer.ok) throw Object.assign(new Error(`${value.error}: ${value.message}`), { code: value.error });
  return value;
}

export async function open(capabilities) {
  const { sessionId, capabilities: given } = await command("POST", "/session", { capabilities: { alwaysMatch: capabilities } });
  const at = (method, path, body) => command(method, `/session/${sessionId}${path}`, body);
  const find = async (css) => (await at("POST", "/element", { using: "css selector", value: css }))[ELEMENT];
  return {
    device: given["tessellant:device"],
    find,
    all: async (css) => (await at("POST", "/elements", { using: "css selector", value: css })).length,
    text: async (css) => at("GET", `/element/${await find(css)}/text`),
    displayed: async (css) => at("GET", `/element/${await find(css)}/displayed`),
    tap: async (css) => at("POST", `/element/${await find(css)}/click`),
    type: async (css, text) => {
      await at("POST", `/element/${await find(css)}/value`, { text });
      await at("POST", "/tessellant/keyboard/hide");
    },
    swipeUp: async () => {
      const { width, height } = await at("GET", "/window/rect");
      const [x, y] = [Math.round(width / 2), Math.round(height * 0.75)];
      await at("POST", "/actions", { actions: [{ type: "pointer", id: "finger", parameters: { pointerType: "touch" }, actions: [
        { type: "pointerMove", x, y }, { type: "pointerDown", button: 0 }, { type: "pointerMove", duration: 300, x, y: Math.round(height * 0.25) }, { type: "pointerUp", button: 0 }] }] });
    },
    back: () => at("POST", "/back"),
    fresh: async () => { await at("POST", "/tessellant/app/clear"); await at("POST", "/tessellant/app/launch"); },
    begin: (name) => at("POST", "/tessellant/case/begin", { name }),
    end: (verdict, message) => at("POST", "/tessellant/case/end", { verdict, message }),
    step: (name) => at("POST", "/tessellant/step", { name }),
    close: () => at("DELETE", ""),
  };
}
