/** What the Gate service says of itself. @param origin its address without a path */
export function openApi(origin: string): object {
  const moment = { type: "string", format: "date-time" };
  const list = (item: string) => ({
    type: "object",
    required: ["data"],
    properties: {
      data: { type: "array", items: { $ref: `#/components/schemas/${item}` } },
      next: { type: ["string", "null"], description: "sent back as after" },
    },
  });
  const parameters = {
    after: { name: "after", in: "query", schema: { type: "string" } },
    limit: { name: "limit", in: "query", schema: { type: "integer", maximum: 1000, default: 200 } },
    since: { name: "updated_after", in: "query", schema: moment },
  };
  const reads = (summary: string, item: string, ...more: object[]) => ({
    get: {
      summary,
      parameters: [parameters.after, parameters.limit, ...more],
      responses: { 200: { description: "a page", content: { "application/json": { schema: list(item) } } } },
    },
  });
  return {
    openapi: "3.1.0",
    info: { title: "Gate service", version: "4" },
    servers: [{ url: `${origin}/api` }],
    paths: {
      "/scans": reads("Tickets read at the ports' gates", "Scan", parameters.since),
      "/scans/deleted": reads("Scans that were struck out", "Deleted", {
        name: "deleted_since",
        in: "query",
        schema: moment,
      }),
      "/incidents": reads("What went wrong at a gate", "Incident"),
    },
    components: {
      schemas: {
        Scan: {
          type: "object",
          required: ["scan_id", "ticket", "port", "result", "paid", "scanned_at", "updated_at"],
          properties: {
            scan_id: { type: "integer", format: "int64" },
            ticket: { type: "integer", format: "int64", description: "the number printed on the ticket" },
            port: { type: "string" },
            gate: { type: "string" },
            result: { type: "string", enum: ["passed", "refused", "corrected"] },
            paid: { type: "number" },
            scanned_at: moment,
            updated_at: moment,
            device: { type: "object", properties: { id: { type: "string" }, firmware: { type: "string" } } },
          },
        },
        Deleted: {
          type: "object",
          required: ["scan_id", "deleted_at"],
          properties: { scan_id: { type: "integer", format: "int64" }, deleted_at: moment },
        },
        Incident: {
          type: "object",
          required: ["incident_id", "port", "text", "began_at", "updated_at"],
          properties: {
            incident_id: { type: "integer", format: "int64" },
            port: { type: "string" },
            text: { type: "string" },
            minutes: { type: "integer", format: "int32" },
            began_at: moment,
            updated_at: moment,
          },
        },
      },
      securitySchemes: {
        gate: {
          type: "oauth2",
          flows: {
            clientCredentials: {
              tokenUrl: `${origin}/oauth/token`,
              scopes: {
                "scans.read": "reads scans",
                "incidents.read": "reads incidents",
                "scans.write": "comments scans",
                "incidents.write": "comments incidents",
              },
            },
            authorizationCode: {
              authorizationUrl: `${origin}/oauth/authorize`,
              tokenUrl: `${origin}/oauth/token`,
              scopes: { "scans.read": "reads scans", "incidents.read": "reads incidents" },
            },
          },
        },
      },
    },
  };
}
