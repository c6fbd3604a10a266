// Unpacks what the page holds and starts the player. Modules are linked to each other by the addresses they get here.
(async () => {
  const status = document.getElementById("status");
  const bytesOf = async (id) => {
    const letters = atob(document.getElementById(id).textContent);
    const packed = new Uint8Array(letters.length);
    for (let at = 0; at < letters.length; at += 1) packed[at] = letters.charCodeAt(at);
    const stream = new Blob([packed]).stream().pipeThrough(new DecompressionStream("gzip"));
    return new Uint8Array(await new Response(stream).arrayBuffer());
  };
  const textOf = async (id) => new TextDecoder().decode(await bytesOf(id));
  const addressOf = (code) => URL.createObjectURL(new Blob([code], { type: "text/javascript" }));
  try {
    if (!("DecompressionStream" in window)) throw new Error("This browser is too old to unpack the page; use one of 2023 or newer.");
    // All is unpacked while the browser reads the package that draws.
    const unpacked = textOf("data-scene").then(async (text) => {
      const scene = JSON.parse(text);
      return [scene, await Promise.all(scene.figures.map((_, number) => bytesOf(`data-figure-${number}`)))];
    });
    const addresses = { three: addressOf(await bytesOf("data-three")) };
    const loaded = import(addresses.three);
    for (const [name, code] of Object.entries(JSON.parse(await textOf("data-modules")))) {
      addresses[name] = addressOf(code.replace(/from "(?:\.\/)?([\w.-]+)"/g, (_, other) => `from "${addresses[other]}"`));
    }
    const [scene, figures] = await unpacked;
    await loaded;
    const { start } = await import(addresses["main.js"]);
    window.player = await start(scene, figures, () => textOf("data-licences"));
    status.hidden = true;
  } catch (error) {
    status.hidden = false;
    status.textContent = `The figures cannot be shown.\n${error.message}`;
    throw error;
  }
})();
