import { headersOf } from "../places/telling/templates";

describe("headers of a webhook's own", () => {
  it("are a line each, named by what stands before the first colon", () => {
    expect(headersOf("Channel: quay\n\n  Reply-To :http://harbour.example/x \nBare")).toEqual({
      Channel: "quay",
      "Reply-To": "http://harbour.example/x",
      Bare: "",
    });
    expect(headersOf(" \n")).toEqual({});
  });
});
