import openapiTypes, { astToString } from "openapi-typescript";
import { generateApi } from "swagger-typescript-api";

export { default as typescript } from "typescript";

/** The types of a description, as openapi-typescript makes them. */
export async function types(document) {
  return astToString(await openapiTypes(document));
}

/** A client for a description, as swagger-typescript-api makes it. */
export async function client(document) {
  const options = { output: false, silent: true, fileName: "api.ts", httpClientType: "fetch", generateClient: true };
  const { files } = await generateApi({ spec: structuredClone(document), ...options });
  return files[0].fileContent;
}
