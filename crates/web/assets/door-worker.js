// Reads barcodes off the page's own thread.
"use strict";
const base = self.location.pathname.replace(/[^/]*$/, "");
importScripts(`${base}zxing/zxing-reader.js`);
ZXingWASM.prepareZXingModule({
  overrides: { locateFile: (path) => (path.endsWith(".wasm") ? `${base}zxing/${path}` : path) },
  fireImmediately: true,
});
const options = { formats: ["QRCode", "Code128"], maxNumberOfSymbols: 1 };
onmessage = async ({ data }) => {
  try {
    const [first] = await ZXingWASM.readBarcodes(data.image, { ...options, tryHarder: Boolean(data.photo || data.hard) });
    postMessage({ text: first?.text ?? "", photo: data.photo });
  } catch (error) {
    postMessage({ text: "", photo: data.photo, error: String(error) });
  }
};
