<script setup lang="ts">
import { onMounted, useTemplateRef, watch } from 'vue'
import { RouterView } from 'vue-router'
import { whenSignedOut } from './api/client'
import AskLine from './components/AskLine.vue'
import AreaIndex from './components/AreaIndex.vue'
import CommandPalette from './components/CommandPalette.vue'
import CourseBar from './components/CourseBar.vue'
import DraftErrors from './components/DraftErrors.vue'
import DraftQuarrel from './components/DraftQuarrel.vue'
import ReadingLine from './components/ReadingLine.vue'
import { useCharter } from './composables/useCharter'
import { useDraft } from './composables/useDraft'
import { useFocusKept } from './composables/useFocusKept'
import { useSession } from './composables/useSession'
import { useStatus } from './composables/useStatus'
import SignInPage from './pages/SignInPage.vue'

const session = useSession()
const status = useStatus()
const charter = useCharter()
const draft = useDraft()
whenSignedOut(session.forget)
useFocusKept(useTemplateRef<HTMLElement>('frame'))
onMounted(session.look)
watch(session.own, (now, before) => before && now !== before && draft.leave())
watch(session.who, (who) => {
  if (!who) return status.stop()
  void status.follow()
  void charter.read()
  void draft.resume()
})
</script>

<template>
  <ElConfigProvider :button="{ autoInsertSpace: false }" :value-on-clear="''">
    <SignInPage v-if="session.known.value && !session.who.value" />
    <div
      v-if="session.own.value"
      v-show="session.who.value"
      :key="session.own.value"
      ref="frame"
      class="frame"
      :class="{ drafting: draft.draft.value }"
    >
      <a class="skip" href="#page">To the page</a>
      <div class="above"><ReadingLine /><CourseBar /><DraftQuarrel /><DraftErrors /></div>
      <AreaIndex />
      <main id="page" tabindex="-1">
        <RouterView />
      </main>
      <AskLine />
      <CommandPalette />
    </div>
  </ElConfigProvider>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template: auto 1fr auto / 160px minmax(0, 1fr);
  height: 100%;
}
.above {
  grid-column: 1 / -1;
}
/* A draft is told apart from what is live on every page. */
.drafting {
  padding-left: 8px;
  background: repeating-linear-gradient(45deg, var(--draft) 0 3px, transparent 3px 7px) left / 8px 100% no-repeat;
}
main {
  position: relative;
  overflow: auto;
  padding: 24px 28px;
  outline: none;
}
.skip {
  position: absolute;
  left: -999px;
  background: var(--sheet);
  padding: 4px 8px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  z-index: 9;
}
/* Where there is little room, or letters are large, the whole of it scrolls, and every strip with it. */
@media (max-width: 760px), (max-height: 560px) {
  .frame {
    display: block;
    height: auto;
    min-height: 100%;
  }
  main {
    overflow: visible;
    padding: 16px;
  }
}
@media print {
  .above,
  .frame > :not(main) {
    display: none;
  }
  .frame {
    display: block;
    height: auto;
  }
  main {
    overflow: visible;
  }
}
</style>
