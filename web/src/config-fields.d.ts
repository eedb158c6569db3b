/** The fields of a configuration, taken from the API's description when the console is built (vite.config.ts). */
declare module "virtual:config-fields" {
  export const applicationFields: string[];
  export const providerFields: string[];
}
