// Unpacks what the page holds and starts the player. Modules are linked to each other by the addresses they get here.
(async () => {
  const status = document.getElementById("status");
  const bytesOf = async (id) => {
    const packed = await fetch("data:application/gzip;base64," + document.getElementById(id).textContent);
    const stream = packed.body.pipeThrough(new DecompressionStream("gzip"));
    return new Uint8Array(await new Response(stream).arrayBuffer());
  };
  const textOf = async (id) => new TextDecoder().decode(await bytesOf(id));
  const addressOf = (code) => URL.createObjectURL(new Blob([code], { type: "text/javascript" }));
  try {
    if (!("DecompressionStream" in window)) throw new Error("This browser is too old to unpack the page; use one of 2023 or newer.");
    const addresses = { three: addressOf(await bytesOf("data-three")) };
    for (const [name, code] of Object.entries(JSON.parse(await textOf("data-modules")))) {
      addresses[name] = addressOf(code.replace(/from "(?:\.\/)?([\w.-]+)"/g, (_, other) => `from "${addresses[other]}"`));
    }
    const scene = JSON.parse(await textOf("data-scene"));
    const figures = await Promise.all(scene.figures.map((_, number) => bytesOf(`data-figure-${number}`)));
    const { start } = await import(addresses["main.js"]);
    window.player = await start(scene, figures, () => textOf("data-licences"));
    status.hidden = true;
  } catch (error) {
    status.hidden = false;
    status.textContent = `The figures cannot be shown.\n${error.message}`;
    throw error;
  }
})();
