/** What templates call Element Plus's components, which the build imports where they are used. */
import type { ElTableColumn } from 'element-plus'

/** A column whose rows are what the page says they are: a table cannot know them of its columns. */
interface Column {
  new (): {
    $props: InstanceType<typeof ElTableColumn>['$props']
    $slots: Record<'default' | 'header', (scope: any) => unknown>
  }
}

declare module 'vue' {
  export interface GlobalComponents {
    ElAlert: (typeof import('element-plus'))['ElAlert']
    ElAutocomplete: (typeof import('element-plus'))['ElAutocomplete']
    ElBreadcrumb: (typeof import('element-plus'))['ElBreadcrumb']
    ElBreadcrumbItem: (typeof import('element-plus'))['ElBreadcrumbItem']
    ElButton: (typeof import('element-plus'))['ElButton']
    ElCheckbox: (typeof import('element-plus'))['ElCheckbox']
    ElConfigProvider: (typeof import('element-plus'))['ElConfigProvider']
    ElDatePicker: (typeof import('element-plus'))['ElDatePicker']
    ElDescriptions: (typeof import('element-plus'))['ElDescriptions']
    ElDescriptionsItem: (typeof import('element-plus'))['ElDescriptionsItem']
    ElDialog: (typeof import('element-plus'))['ElDialog']
    ElForm: (typeof import('element-plus'))['ElForm']
    ElFormItem: (typeof import('element-plus'))['ElFormItem']
    ElInput: (typeof import('element-plus'))['ElInput']
    ElInputNumber: (typeof import('element-plus'))['ElInputNumber']
    ElOption: (typeof import('element-plus'))['ElOption']
    ElOptionGroup: (typeof import('element-plus'))['ElOptionGroup']
    ElPopconfirm: (typeof import('element-plus'))['ElPopconfirm']
    ElProgress: (typeof import('element-plus'))['ElProgress']
    ElSegmented: (typeof import('element-plus'))['ElSegmented']
    ElSelect: (typeof import('element-plus'))['ElSelect']
    ElSkeleton: (typeof import('element-plus'))['ElSkeleton']
    ElTabPane: (typeof import('element-plus'))['ElTabPane']
    ElTable: (typeof import('element-plus'))['ElTable']
    ElTabs: (typeof import('element-plus'))['ElTabs']
    ElTimeline: (typeof import('element-plus'))['ElTimeline']
    ElTimelineItem: (typeof import('element-plus'))['ElTimelineItem']
    ElTooltip: (typeof import('element-plus'))['ElTooltip']
    ElTreeSelect: (typeof import('element-plus'))['ElTreeSelect']
    ElUpload: (typeof import('element-plus'))['ElUpload']
    ElTableColumn: Column
  }
}
