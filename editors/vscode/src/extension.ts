import * as vscode from "vscode";
import { LanguageClient, LanguageClientOptions, ServerOptions } from "vscode-languageclient/node";

let client: LanguageClient | undefined;

// serverOptions start the program, with the environment that the settings name.
function serverOptions(settings: vscode.WorkspaceConfiguration): ServerOptions {
  return { command: settings.get<string>("path") || "kasbah", args: ["lsp"] };
}

const clientOptions: LanguageClientOptions = {
  documentSelector: [
    { scheme: "file", language: "kasbah" },
    { scheme: "file", language: "kasbah-toml" },
  ],
  synchronize: { configurationSection: "kasbah" },
};

async function start(): Promise<void> {
  const settings = vscode.workspace.getConfiguration("kasbah");
  client = new LanguageClient("kasbah", "Kasbah", serverOptions(settings), {
    ...clientOptions,
    initializationOptions: {
      env: settings.get<string>("env") || "",
      inlayHints: settings.get<boolean>("inlayHints"),
      codeLens: settings.get<boolean>("codeLens"),
    },
  });
  try {
    await client.start();
  } catch (err) {
    void vscode.window.showErrorMessage(
      `The program kasbah cannot be started: ${String(err)}. The setting kasbah.path says where it is.`,
    );
  }
}

async function stop(): Promise<void> {
  const was = client;
  client = undefined;
  await was?.stop();
}

export async function activate(context: vscode.ExtensionContext): Promise<void> {
  context.subscriptions.push(
    vscode.commands.registerCommand("kasbah.restart", async () => {
      await stop();
      await start();
    }),
    vscode.workspace.onDidChangeConfiguration(async (change) => {
      if (change.affectsConfiguration("kasbah.path")) {
        await stop();
        await start();
      }
    }),
  );
  await start();
}

export async function deactivate(): Promise<void> {
  await stop();
}
